"""What ranking networks make of the vectors of a pair.

left: (n, n_left, width + 1), right: (n, n_right, width + 1), the last number of each vector being its weight. What a
side brings on its own is written once and runs on torch's numbers, for learning, and on arrays, for serving, where that
of all items is there before anyone asks; what is left to do for a pair is a small ONNX network.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any, ClassVar

import numpy as np

from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.layers import n_layers_of, random_layers
from gleaner.core.models.neural.machinery.onnx_network import FREE, Network, NetworkBuilder

PREFIX = "deep"
FIRST = f"{PREFIX}.0.weight"


class Head(ABC):
    """score = sum of all weights + products, where the method has them + what layers make of the vectors."""

    sums_up: ClassVar[str] = "weights, and the layers"

    def __init__(self, layers: list[int], n_left: int, n_right: int, width: int) -> None:
        self.layers, self.n_left, self.n_right, self.width = layers, n_left, n_right, width
        self.weights: Arrays = {}
        self._network: Network | None = None

    @property
    @abstractmethod
    def n_inputs(self) -> int:
        """How many numbers go into the first layer."""

    @abstractmethod
    def brought_left(self, weights: dict[str, Any], vectors: Any) -> Any:
        """What vectors of the left, without their weights, bring to the first layer: (n, width of the layer)."""

    @abstractmethod
    def brought_right(self, weights: dict[str, Any], vectors: Any) -> Any:
        """What vectors of the right bring to it."""

    def brought_across(self, weights: dict[str, Any], left: Any, right: Any) -> Any:
        """What both bring together: left (n, n_left, width), right (n, m, n_right, width); 0 where that is nothing."""
        return 0.0

    def own_products(self, vectors: Any) -> Any:
        """The sum of products of two vectors of one side: (n,); 0 where the method has none."""
        return 0.0

    def across(self, left: Any, right: Any) -> Any:
        """The sum of products of a vector of the left with one of the right: left (n, n_left, width), right (n, m,
        n_right, width); 0 where the method has none."""
        return 0.0

    @property
    def widths(self) -> list[int]:
        """Of the layers, from what goes in to the one number that comes out; empty where there are none."""
        return [self.n_inputs, *self.layers, 1] if self.layers else []

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """Of the layers; none where there are no layers."""
        return random_layers(random, PREFIX, self.widths)

    def run(self, torch: Any, weights: dict[str, Any], left: Any, right: Any) -> Any:
        """The head's numbers of each left with each of its rights: left (n, n_left, width + 1), right (n, m, n_right,
        width + 1), torch (n, m)."""
        n, m = right.shape[:2]
        x, y = left[..., :-1], right[..., :-1]
        flat = y.reshape(n * m, *y.shape[2:])
        out = left[..., -1].sum(1)[:, None] + right[..., -1].sum(2) + self.across(x, y)
        own_left, own_right = self.own_products(x), self.own_products(flat)
        if not isinstance(own_left, float):
            out = out + own_left[:, None] + own_right.reshape(n, m)
        if not self.layers:
            return out
        hidden = self.brought_left(weights, x)[:, None] + self.brought_right(weights, flat).reshape(n, m, -1)
        hidden = hidden + self.brought_across(weights, x, y) + weights[f"{PREFIX}.0.bias"]
        for place in range(1, len(self.layers) + 1):
            hidden = torch.relu(hidden) @ weights[f"{PREFIX}.{place}.weight"] + weights[f"{PREFIX}.{place}.bias"]
        return out + hidden[..., 0]

    def take(self, weights: Arrays, right: np.ndarray) -> None:
        """Weights that were learned, and the vectors of all items."""
        self.weights = {name: array for name, array in weights.items() if name.startswith(f"{PREFIX}.")}
        self._network = None
        self._right = np.ascontiguousarray(right[..., :-1])
        self._alone = right[..., -1].sum(1) + self.own_products(self._right)
        if self.layers:
            self._brought = np.ascontiguousarray(self.brought_right(self.weights, self._right), np.float32)

    def scores(self, left: np.ndarray) -> np.ndarray:
        """Of every item: float32 (n, n_items)."""
        out = np.empty((len(left), len(self._right)), np.float32)
        for row in range(len(left)):
            out[row] = self.scores_among(left[row : row + 1], slice(None))
        return out

    def scores_among(self, one: np.ndarray, items: np.ndarray | slice) -> np.ndarray:
        """Of some items, from one left: float32 (m,)."""
        x, right = one[..., :-1], self._right[items]
        out = self._alone[items] + (one[..., -1].sum() + self.own_products(x)) + self.across(x, right[None])
        out = np.asarray(out, np.float32).reshape(-1)
        return out + self._deep(x, right, self._brought[items]) if self.layers else out

    def pairs(self, left: np.ndarray, right: np.ndarray) -> np.ndarray:
        """Of pairs: float32 (n,)."""
        x, y = left[..., :-1], right[..., :-1]
        across = self.across(x, y[:, None])
        out = left[..., -1].sum(1) + right[..., -1].sum(1) + self.own_products(x) + self.own_products(y)
        out = out + (across if isinstance(across, float) else across[:, 0])
        if self.layers:
            out += self._deep(x, y, self.brought_right(self.weights, y))
        return np.asarray(out, np.float32)

    def _deep(self, left: np.ndarray, right: np.ndarray, brought: np.ndarray) -> np.ndarray:
        if self._network is None:
            self._network = Network(self.build())
        hidden = self.brought_left(self.weights, left) + self.weights[f"{PREFIX}.0.bias"]
        return self._network(left=hidden, right=brought, **self.more_inputs(left, right))[:, 0]

    def more_inputs(self, left: np.ndarray, right: np.ndarray) -> dict[str, np.ndarray]:
        """What the network takes beside what both sides bring to the first layer."""
        return {}

    def build(self) -> bytes:
        """The layers, from what both sides bring to the first of them, as ONNX."""
        builder, width = NetworkBuilder("layers"), self.layers[0]
        x = builder.op("Add", builder.input("left", "users", width), builder.input("right", FREE, width))
        x = builder.op("Relu", self.build_more(builder, x))
        n = n_layers_of(self.weights, PREFIX)
        for place in range(1, n):
            x = builder.linear(x, self.weights[f"{PREFIX}.{place}.weight"], self.weights[f"{PREFIX}.{place}.bias"])
            if place < n - 1:
                x = builder.op("Relu", x)
        return builder.build(x, FREE, 1)

    def build_more(self, builder: NetworkBuilder, x: str) -> str:
        """The first layer with what else goes in."""
        return x


class DeepHead(Head):
    """Layers over all vectors, side by side."""

    @property
    def n_inputs(self) -> int:
        """All numbers of all vectors."""
        return (self.n_left + self.n_right) * self.width

    def brought_left(self, weights: dict[str, Any], vectors: Any) -> Any:
        """By the first rows of the first layer."""
        return vectors.reshape(len(vectors), -1) @ weights[FIRST][: self.n_left * self.width]

    def brought_right(self, weights: dict[str, Any], vectors: Any) -> Any:
        """By the others."""
        return vectors.reshape(len(vectors), -1) @ weights[FIRST][self.n_left * self.width :]


class MachineHead(DeepHead):
    """The same with the products of every two vectors, as in a factorisation machine."""

    sums_up: ClassVar[str] = "weights, products, and the layers"

    def own_products(self, vectors: Any) -> Any:
        """Half of the squared sum less the squares."""
        return 0.5 * ((vectors.sum(1) ** 2).sum(1) - (vectors**2).sum((1, 2)))

    def across(self, left: Any, right: Any) -> Any:
        """The product of both sums."""
        return (right.sum(2) @ left.sum(1)[:, :, None])[..., 0]


class ProductsHead(Head):
    """Layers over the products of every two vectors. Those within a side are known without the other."""

    sums_up: ClassVar[str] = "weights, and layers over products"

    @property
    def n_inputs(self) -> int:
        """Pairs of vectors."""
        n = self.n_left + self.n_right
        return n * (n - 1) // 2

    @property
    def _bounds(self) -> tuple[int, int]:
        """In the first layer: where products within the right begin, and those across."""
        within = self.n_left * (self.n_left - 1) // 2
        return within, within + self.n_right * (self.n_right - 1) // 2

    def brought_left(self, weights: dict[str, Any], vectors: Any) -> Any:
        """Of products within the left."""
        return _within(vectors) @ weights[FIRST][: self._bounds[0]]

    def brought_right(self, weights: dict[str, Any], vectors: Any) -> Any:
        """Of products within the right."""
        return _within(vectors) @ weights[FIRST][self._bounds[0] : self._bounds[1]]

    def brought_across(self, weights: dict[str, Any], left: Any, right: Any) -> Any:
        """Of products across."""
        products = right @ left.swapaxes(1, 2)[:, None]
        return products.reshape(*products.shape[:2], -1) @ weights[FIRST][self._bounds[1] :]

    def more_inputs(self, left: np.ndarray, right: np.ndarray) -> dict[str, np.ndarray]:
        """The vectors, for the products across."""
        return {"left_vectors": np.ascontiguousarray(left), "right_vectors": np.ascontiguousarray(right)}

    def build_more(self, builder: NetworkBuilder, x: str) -> str:
        """With the products across."""
        left = builder.input("left_vectors", "users", self.n_left, self.width)
        right = builder.input("right_vectors", FREE, self.n_right, self.width)
        products = builder.op("MatMul", right, builder.op("Transpose", left, perm=[0, 2, 1]))
        flat = builder.op("Flatten", products, axis=1)
        return builder.op("Add", x, builder.linear(flat, self.weights[FIRST][self._bounds[1] :]))


def _within(vectors: Any) -> Any:
    """Products of every two vectors of one side: (n, pairs)."""
    rows, columns = np.triu_indices(vectors.shape[1], 1)
    return (vectors @ vectors.swapaxes(1, 2))[:, rows, columns]
