"""What networks along the graph of users and items share: vectors handed on, and the same way back for gradients."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import Any

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned, no_array
from gleaner.core.models.neural.machinery.network_model import DivergedError, Draws, NetworkModel
from gleaner.core.models.neural.machinery.network_parts import NetworkPart, Side, table_part
from gleaner.core.models.neural.machinery.optimiser import Optimiser
from gleaner.core.models.neural.machinery.propagation import Graph, handed_to_users, propagated


@dataclass(repr=False)
class GraphNetwork(NetworkModel):
    """Each user and item has a vector e; x_u and y_i are the means over 0 to `layers` steps of vectors handed on along
    the edges of the graph, each over the root of the edges at both its ends (He, Deng, Wang, Li, Zhang, Wang 2020)."""

    rank: int = parameter(64, "length of the vectors")
    layers: int = parameter(2, "steps along the edges")
    init_scale: float = parameter(0.1, "spread of the first vectors")
    batch: int = parameter(4096, "cells that one step looks at")
    iterations: int = parameter(40, "passes over the data, at most")
    learning_rate: float = parameter(0.01, "of the gradient steps")
    regularisation: float = parameter(1e-4, "lambda of the objective")
    handed_: np.ndarray = learned(no_array)

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("layers", self.layers, 1, 8, whole=True)
        require_range("init_scale", self.init_scale, 1e-6, 10)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Every edge in both directions, for every layer, forth and back, at every step."""
        rank, steps = params["rank"], max(1.0, cells / params["batch"])
        along = params["layers"] * cells * rank + 12.0 * rank * sum(shape)
        work = params["iterations"] * (steps * along + 30.0 * rank * cells)
        return Cost(work, 28.0 * rank * sum(shape) + 32.0 * cells)

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """The graph."""
        import torch

        self._graph = Graph.of(train)
        self._adjacency = self._graph.in_torch(torch)

    def end(self) -> None:
        """Let go of the graph."""
        super().end()
        del self._graph, self._adjacency

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """e of both sides; of who or what has no cell nothing is known."""
        users, items = (
            (random.standard_normal((n, self.rank)) * self.init_scale).astype(np.float32) for n in self.trained_on.shape
        )
        users[np.diff(self.trained_on.indptr) == 0] = 0
        items[self.trained_on.item_counts == 0] = 0
        return {"users": users, "items": items}

    def n_units(self) -> int:
        """Cells."""
        return self.trained_on.n_cells

    def step(self, optimiser: Optimiser, units: np.ndarray, draws: Draws) -> float:
        """One step; the way back through the graph is the way forth."""
        import torch

        with torch.no_grad():
            weights = {name: tensor.detach() for name, tensor in optimiser.tensors.items()}
            x, y = propagated(self._adjacency, weights["users"], weights["items"], self.layers)
            users, items = self.rows_of(units, draws)
            with np.errstate(all="ignore"):
                # what is no number any more is told by the loss
                value, back, gradients = self.head(weights, x, y, users, items, units)
            if not np.isfinite(value):
                raise DivergedError
            moved = propagated(self._adjacency, torch.from_numpy(back[0]), torch.from_numpy(back[1]), self.layers)
            for name, rows, gradient in (("users", users, moved[0]), ("items", items, moved[1])):
                # the penalty is of the rows that the step looked at, as often as it did
                counts = np.bincount(rows, minlength=len(gradient)).astype(np.float32)
                share = torch.from_numpy(counts[:, None] * np.float32(self.regularisation / len(units)))
                gradients[name] = gradient.addcmul_(share, weights[name])
            optimiser.step_by(gradients)
        return value

    @abstractmethod
    def rows_of(self, units: np.ndarray, draws: Draws) -> tuple[np.ndarray, np.ndarray]:
        """The users and items that a step looks at: int64."""

    @abstractmethod
    def head(
        self, weights: dict[str, Any], x: Any, y: Any, users: np.ndarray, items: np.ndarray, units: np.ndarray
    ) -> tuple[float, tuple[np.ndarray, np.ndarray], dict[str, Any]]:
        """The mean loss of some cells, its gradients for x and y as arrays, and those of weights beside e."""

    def parts(self) -> list[NetworkPart]:
        """Vectors of both sides, and the steps along the graph."""
        sizes: list[tuple[Side, int]] = [("user", self.trained_on.shape[0]), ("item", self.trained_on.shape[1])]
        edges = f"along {self.trained_on.n_cells:,} edges, the mean of 0 to {self.layers} steps"
        return [
            *(table_part(side, f"{side} id", f"{n:,} {side}s", n, self.rank) for side, n in sizes),
            *(NetworkPart(side, "graph", edges, self.rank, 0) for side, _ in sizes),
            NetworkPart("both", "score", "product", 1, 0),
        ]

    def handed_on(self) -> tuple[np.ndarray, np.ndarray]:
        """x and y by the weights as they are; what items hand on to someone new is kept."""
        import torch

        users, items = self.weights_["users"], self.weights_["items"]
        x, y = propagated(self._adjacency, torch.from_numpy(users), torch.from_numpy(items), self.layers)
        self.handed_ = handed_to_users(self._graph, users, items, self.layers)
        return x.numpy(), y.numpy()

    def handed_to(self, item_rows: np.ndarray) -> np.ndarray:
        """x of someone new, of whom nothing but items is known: float32 (rank,)."""
        return self.handed_[item_rows].sum(axis=0) / np.float32(np.sqrt(max(1, len(item_rows))))
