"""Light graph convolution with a value head."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.models.base.factor_model import ridge_fit
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned
from gleaner.core.models.base.values import DAMPING
from gleaner.core.models.neural.machinery.bags import added_up
from gleaner.core.models.neural.machinery.graph_network import GraphNetwork
from gleaner.core.models.neural.machinery.network_model import Draws
from gleaner.core.models.values.value_factors import ValueFactors

MOST_MEASURED = 100_000
"""Cells by which it is measured how much the model leaves."""


@dataclass(repr=False)
class GraphValues(GraphNetwork, ValueFactors):
    """r_ui = mean + b_u + b_i + x_u . y_i, x and y handed on along the graph as `graph_convolution` does, an edge for
    every rating, good or bad. The loss is

        (r - r_ui)^2 + 0.5 regularisation (|e_u|^2 + |e_i|^2)

    over ratings (graph: He, Deng, Wang, Li, Zhang, Wang 2020; values by graph convolution: Berg, Kipf, Welling 2017).

    It has no vector for a user it never saw: what stands in is what their items would hand on to them, and a vector and
    a bias by ridge regression of what that leaves of their values, held back as far as vectors of training scatter.
    """

    family: ClassVar[str] = "graph_values"
    summary: ClassVar[str] = "values from factors handed on along the graph of users and items"
    source: ClassVar[str] = "He, Deng, Wang, Li, Zhang, Wang 2020; Berg, Kipf, Welling 2017"
    unfit: ClassVar[str] = "for users or items it never saw: it has no vector for them, and what stands in is weaker"
    effort: ClassVar[str] = "per iteration about 4 layers cells rank for each batch"

    rank: int = parameter(32, "length of the vectors")
    held_back_: float = learned(lambda: 1.0)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Any) -> None:
        """With biases to begin from, and to fall back on."""
        self.learn_biases(train)
        super().learn(train, features, watch)

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """e of both sides, and biases."""
        biases = {"user_bias": self.biases_.user.copy(), "item_bias": self.biases_.item.copy()}
        return super().initial_weights(random) | biases

    def rows_of(self, units: np.ndarray, draws: Draws) -> tuple[np.ndarray, np.ndarray]:
        """Those of the cells."""
        train = self.trained_on
        return train.user_rows[units].astype(np.int64), train.indices[units].astype(np.int64)

    def head(
        self, weights: dict[str, Any], x: Any, y: Any, users: np.ndarray, items: np.ndarray, units: np.ndarray
    ) -> tuple[float, tuple[np.ndarray, np.ndarray], dict[str, Any]]:
        """The squared error."""
        import torch

        X, Y, n = x.numpy(), y.numpy(), len(units)
        mine, theirs = X[users], Y[items]
        biases = {name: weights[name].numpy() for name in ("user_bias", "item_bias")}
        told = biases["user_bias"][users] + biases["item_bias"][items] + np.einsum("ij,ij->i", mine, theirs)
        miss = told - (self.trained_on.values[units] - np.float32(self.biases_.mean))
        slope = ((2.0 / n) * miss).astype(np.float32)[:, None]
        back = added_up(users, slope * theirs, len(X)), added_up(items, slope * mine, len(Y))
        gradients = {}
        for name, rows in (("user_bias", users), ("item_bias", items)):
            pull = slope[:, 0] + np.float32(self.regularisation / n) * biases[name][rows]
            gradients[name] = torch.from_numpy(np.bincount(rows, pull, len(biases[name])).astype(np.float32))
        return float(np.mean(miss.astype(np.float64) ** 2)), back, gradients

    def update(self) -> None:
        """Vectors as the graph hands them on, with biases behind."""
        x, y = self.handed_on()
        self.set_factors(self.biases_.mean, self.weights_["user_bias"], self.weights_["item_bias"], x, y)
        own = self.weights_["users"].astype(np.float64) / (self.layers + 1)
        some = np.linspace(0, self.trained_on.n_cells - 1, min(self.trained_on.n_cells, MOST_MEASURED)).astype(np.int64)
        told = self.predict(self.trained_on.user_rows[some], self.trained_on.indices[some])
        missed = np.mean((self.trained_on.values[some] - told.astype(np.float64)) ** 2)
        self.held_back_ = float(max(missed, 1e-6) / max(np.mean(own**2), 1e-9))

    def penalty_of(self, n: int) -> float:
        """As far as vectors of training scatter, for a new item too."""
        return self.held_back_

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """What their items would hand on, and what it leaves of their values: float32 (rank + 2,)."""
        x, mean, Y = self.handed_to(item_rows), self.biases_.mean, self.item_factors_[item_rows]
        left = np.asarray(values, np.float64) - mean - Y[:, -1] - Y[:, : self.rank] @ x
        rows = np.column_stack([Y[:, : self.rank], np.ones(len(Y))])
        fitted = ridge_fit(rows, left, np.append(np.full(self.rank, self.held_back_), DAMPING))
        return np.concatenate([x + fitted[: self.rank], [mean + fitted[self.rank], 1.0]]).astype(np.float32)

    def state(self) -> Arrays:
        """Vectors, biases, what items hand on, and how far what is left is held back."""
        return super().state() | {"handed": self.handed_, "held_back": np.array([self.held_back_])}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Of the rank."""
        handed = ArraySpec("float32", (len(train.items), self.rank))
        return {**super().layout(train), "handed": handed, "held_back": ArraySpec("float64", (1,))}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load all."""
        self.handed_, self.held_back_ = arrays["handed"], float(arrays["held_back"][0])
        return super().load_state(arrays, train)
