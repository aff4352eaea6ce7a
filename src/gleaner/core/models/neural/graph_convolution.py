"""Light graph convolution with a pairwise loss."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.bags import added_up
from gleaner.core.models.neural.machinery.encoded_factors import VectorFactors, with_ones
from gleaner.core.models.neural.machinery.graph_network import GraphNetwork
from gleaner.core.models.neural.machinery.network_model import Draws


@dataclass(repr=False)
class GraphConvolution(GraphNetwork, VectorFactors):
    """Each user and item has a vector e; x_u and y_i are the means over 0 to `layers` steps of vectors handed on along
    the edges of the graph, each over the root of the edges at both its ends. score(u, i) = x_u . y_i. The loss is

        log(1 + exp(score(u, j) - score(u, i))) + 0.5 regularisation (|e_u|^2 + |e_i|^2 + |e_j|^2)

    over cells (u, i) and items j drawn at random (He, Deng, Wang, Li, Zhang, Wang 2020; loss: Rendle et al. 2009).

    It has no vector for a user it never saw: what stands in is what their items would hand on to them, as if their own
    vector were zero.
    """

    family: ClassVar[str] = "graph_convolution"
    summary: ClassVar[str] = "factors handed on along the graph of users and items, with a pairwise loss"
    source: ClassVar[str] = "He, Deng, Wang, Li, Zhang, Wang 2020"
    unfit: ClassVar[str] = "for users or items it never saw: it has no vector for them, and what stands in is weaker"
    effort: ClassVar[str] = "per iteration about 4 layers cells rank for each batch"

    def rows_of(self, units: np.ndarray, draws: Draws) -> tuple[np.ndarray, np.ndarray]:
        """Users of cells; their items, then those drawn against them."""
        train = self.trained_on
        items = np.concatenate([train.indices[units], self.draw_items(draws.random, len(units))])
        return train.user_rows[units].astype(np.int64), items.astype(np.int64)

    def head(
        self, weights: dict[str, Any], x: Any, y: Any, users: np.ndarray, items: np.ndarray, units: np.ndarray
    ) -> tuple[float, tuple[np.ndarray, np.ndarray], dict[str, Any]]:
        """The pairwise logistic loss."""
        X, Y, n = x.numpy(), y.numpy(), len(units)
        mine, apart = X[users], Y[items[:n]] - Y[items[n:]]
        lead = np.einsum("ij,ij->i", mine, apart, dtype=np.float64)
        slope = (-0.5 * (1 - np.tanh(lead / 2)) / n).astype(np.float32)[:, None]
        pull = slope * mine
        back = added_up(users, slope * apart, len(X)), added_up(items, np.concatenate([pull, -pull]), len(Y))
        return float(np.logaddexp(0, -lead).mean()), back, {}

    def update(self) -> None:
        """Vectors as the graph hands them on."""
        x, y = self.handed_on()
        self.user_factors_ = with_ones(x)
        self.item_factors_ = np.column_stack([y, np.zeros(len(y), np.float32)])

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """What their items would hand on: float32 (rank + 1,)."""
        return np.append(self.handed_to(item_rows), 1).astype(np.float32)

    def state(self) -> Arrays:
        """Vectors, and what items hand on."""
        return super().state() | {"handed": self.handed_}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Of the rank."""
        return {
            "user_factors": ArraySpec("float32", (len(train.users), self.rank + 1)),
            "item_factors": ArraySpec("float32", (len(train.items), self.rank + 1)),
            "handed": ArraySpec("float32", (len(train.items), self.rank)),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load all."""
        self.handed_ = arrays["handed"]
        return super().load_state(arrays, train)
