"""Networks whose lists are products: one side makes a vector of what someone had, the other holds one for each item."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.capabilities import Factors, FoldsIn, HasFactors, HasItemLikeness, HasUserLikeness
from gleaner.core.models.base.factor_model import cosines
from gleaner.core.models.base.protocol import Arrays, learned, no_array
from gleaner.core.models.base.watching import HeldOutCells
from gleaner.core.models.neural.machinery.network_model import NetworkModel
from gleaner.core.models.neural.machinery.onnx_network import Network

USERS_AT_ONCE = 2048
MOST_HELD_OUT = 4000
"""Cells that a validation loss is the mean of, drawn by the seed where there are more."""


@dataclass(repr=False)
class VectorFactors(NetworkModel, HasFactors, FoldsIn, HasItemLikeness, HasUserLikeness):
    """score(u, i) = x_u . y_i + b_i. The bias is the last column of y, against a column of ones."""

    feedback: ClassVar = "implicit"
    bias_columns: ClassVar[int] = 1

    user_factors_: np.ndarray = learned(no_array)
    item_factors_: np.ndarray = learned(no_array)

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """x_u . y_i + b_i for every item."""
        return self.user_factors_[user_rows] @ self.item_factors_.T

    def item_scores(self, item_rows: np.ndarray) -> np.ndarray:
        """The same for every user."""
        return self.item_factors_[item_rows] @ self.user_factors_.T

    def factors(self) -> Factors:
        """The vectors as they are."""
        return Factors(self.user_factors_, self.item_factors_, self.bias_columns)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Product with every item vector."""
        return self.item_factors_ @ representation

    def item_likeness(self, item_row: int) -> tuple[np.ndarray, str]:
        """Cosine of item vectors."""
        return cosines(self.factors().item_tastes, item_row), "cosine of item vectors"

    def user_likeness(self, user_row: int) -> tuple[np.ndarray, str]:
        """Cosine of user vectors."""
        return cosines(self.factors().user_tastes, user_row), "cosine of user vectors"

    def held_out_loss(self, held_out: HeldOutCells) -> float | None:
        """The mean of - log softmax over all items, of at most some thousand cells."""
        users, items = held_out.users, held_out.items
        if len(users) > MOST_HELD_OUT:
            random = np.random.Generator(np.random.PCG64([self.seed, 77]))
            some = np.sort(random.choice(len(users), MOST_HELD_OUT, replace=False))
            users, items = users[some], items[some]
        total = 0.0
        for lo in range(0, len(users), 256):
            scores = self.scores(users[lo : lo + 256]).astype(np.float64)
            highest = scores.max(axis=1)
            whole = highest + np.log(np.exp(scores - highest[:, None]).sum(axis=1))
            total += float((whole - scores[np.arange(len(scores)), items[lo : lo + 256]]).sum())
        return total / len(users) if len(users) else None

    def state(self) -> Arrays:
        """Vectors of both sides."""
        return {"user_factors": self.user_factors_, "item_factors": self.item_factors_}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Both of one width."""
        return {
            "user_factors": ArraySpec("float32", (len(train.users), "width")),
            "item_factors": ArraySpec("float32", (len(train.items), "width")),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the vectors."""
        self.user_factors_, self.item_factors_, self.train_ = arrays["user_factors"], arrays["item_factors"], train
        return self


@dataclass(repr=False)
class EncodedFactors(VectorFactors):
    """The same where x_u is what a network makes of a history: so someone new is served as those of training are."""

    network_: Network | None = learned(lambda: None)

    @abstractmethod
    def build_network(self) -> bytes:
        """The network that makes vectors of what `network_inputs` gives, as ONNX."""

    @abstractmethod
    def encode(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Vectors of histories, given as CSR: float32 (n, width), with ones behind."""

    @abstractmethod
    def item_vectors(self) -> np.ndarray:
        """Vectors of all items by the weights, the bias last: float32 (n_items, width)."""

    @property
    def network(self) -> Network:
        """Ready to run; built of the arrays when it is first needed."""
        if self.network_ is None:
            self.network_ = Network(self.build_network())
        return self.network_

    def graphs(self) -> dict[str, bytes]:
        """What makes the vector of a user."""
        return {"user": self.build_network()}

    def history_order(self, train: InteractionMatrix) -> np.ndarray | None:
        """The places of cells within their users as the network takes them; None: as they lie."""
        return None

    def update(self) -> None:
        """All vectors anew."""
        train, self.network_ = self.trained_on, None
        self.item_factors_ = np.ascontiguousarray(self.item_vectors(), dtype=np.float32)
        self.user_factors_ = np.empty((len(train.users), self.item_factors_.shape[1]), np.float32)
        order = self.history_order(train)
        for lo in range(0, len(train.users), USERS_AT_ONCE):
            bounds = train.indptr[lo : min(lo + USERS_AT_ONCE, len(train.users)) + 1]
            cells = slice(bounds[0], bounds[-1])
            taken = cells if order is None else order[cells]
            rows = slice(lo, lo + len(bounds) - 1)
            self.user_factors_[rows] = self.encode(bounds - bounds[0], train.indices[taken], train.values[taken])

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """What the network makes of the history: float32 (width,)."""
        bounds = np.array([0, len(item_rows)], np.int64)
        return self.encode(bounds, np.asarray(item_rows, np.int32), np.asarray(values, np.float32))[0]


def with_ones(vectors: np.ndarray) -> np.ndarray:
    """Vectors of users as products with those of items need them: a column of ones behind, against the biases."""
    return np.column_stack([vectors, np.ones(len(vectors), np.float32)])
