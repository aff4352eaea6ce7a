"""What autoencoders of histories share: a history becomes a short vector, from which all items are told again."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.base.weighting import WEIGHTING_MEANS, Weighting, require_weighting, weigh
from gleaner.core.models.neural.machinery.bags import Bags
from gleaner.core.models.neural.machinery.encoded_factors import EncodedFactors, with_ones
from gleaner.core.models.neural.machinery.layers import (
    build_layers,
    layers_layout,
    n_layers_of,
    random_layers,
    require_layers,
    run_layers,
)
from gleaner.core.models.neural.machinery.network_model import Draws, LossNetwork, UserNetwork
from gleaner.core.models.neural.machinery.network_parts import NetworkPart, layer_parts, table_part
from gleaner.core.models.neural.machinery.onnx_network import FREE, NetworkBuilder


@dataclass(repr=False)
class Autoencoder(UserNetwork, LossNetwork, EncodedFactors):
    """x, the history after `weighting` and divided by its length, of which a share `dropout` is hidden while learning;
    h = tanh(x W + b), through `layers` and on to a vector z of length `rank`; score = y_i . z + b_i. The loss is minus
    the mean over what was had of the log of softmax(score), all users' items counting alike."""

    bottom: ClassVar[int] = 1
    """How many vectors of length `rank` come out of the layers."""

    rank: int = parameter(64, "length of the vector in the middle")
    layers: list[int] = parameter([256], "widths of the layers before it")
    dropout: float = parameter(0.5, "share of a history that is hidden while learning")
    weighting: Weighting = parameter("binary", WEIGHTING_MEANS)
    iterations: int = parameter(30, "passes over the users, at most")
    batch: int = parameter(256, "users that one step looks at")

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_layers("layers", self.layers)
        require_range("dropout", self.dropout, 0, 0.95)
        require_weighting(self.weighting)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Every item is told again for every user, forth and back, and once more for the step."""
        rank, widths = params["rank"], [*params["layers"], params["rank"]]
        n_weights = sum(a * b for a, b in itertools.pairwise(widths))
        told = 6.0 * shape[0] * (rank * shape[1] + n_weights) / 8 + 30.0 * cells * widths[0]
        per_step = params["iterations"] * max(1, shape[0] // params["batch"]) * 12.0 * shape[1] * (rank + widths[0]) / 8
        held = (
            16.0 * n_weights
            + 16.0 * shape[1] * (rank + widths[0])
            + 12.0 * params["batch"] * shape[1]
            + 4.0 * shape[0] * rank
        )
        return Cost(params["iterations"] * told + per_step, held)

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Histories, of the users who have one."""
        amounts = self.lengthened(train.indptr, weigh(train.values, self.weighting, self.family))
        self._histories = Bags(train.indptr, train.indices, amounts)
        super().prepare(train, features)

    def end(self) -> None:
        """Let go of the histories."""
        super().end()
        del self._histories

    @staticmethod
    def lengthened(bounds: np.ndarray, weights: np.ndarray) -> np.ndarray:
        """Weights of histories divided by the length of each: float32."""
        lengths = np.diff(bounds)
        squares = np.bincount(
            np.repeat(np.arange(len(lengths)), lengths), weights.astype(np.float64) ** 2, len(lengths)
        )
        return weights * np.repeat((1 / np.sqrt(np.where(squares > 0, squares, 1))).astype(np.float32), lengths)

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """As wide as the layers say; the items' biases are how often each is taken."""
        n_items = len(self.trained_on.items)
        widths = [*self.layers, self.bottom * self.rank]
        edge = np.sqrt(6 / (n_items + widths[0]))
        return {
            "inputs": random.uniform(-edge, edge, (n_items, widths[0])).astype(np.float32),
            "inputs_bias": np.zeros(widths[0], np.float32),
            **random_layers(random, "encoder", widths),
            "outputs": (random.standard_normal((n_items, self.rank)) * 0.05).astype(np.float32),
            "outputs_bias": log_shares(self.trained_on),
        }

    def loss(self, weights: dict[str, Any], units: np.ndarray, draws: Draws) -> Any:
        """Of some users, each telling what they had from a part of it."""
        import torch

        bags = self._histories.some(self._users[units])
        kept = draws.random.random(len(bags.amounts)) >= self.dropout
        shown = Bags(bags.indptr, bags.rows, bags.amounts * kept.astype(np.float32) / np.float32(1 - self.dropout))
        z, more = self.middle(weights, self.bottom_of(weights, shown), draws)
        scores = z @ weights["outputs"].T + weights["outputs_bias"]
        logs = torch.log_softmax(scores, dim=1)
        owner = torch.from_numpy(np.repeat(np.arange(len(units)), np.diff(bags.indptr)))
        told = logs[owner, torch.from_numpy(bags.rows.astype(np.int64))]
        loss = (more - told.sum()) / len(bags.rows)
        return loss + self.regularisation * (weights["outputs"] ** 2).sum()

    def bottom_of(self, weights: dict[str, Any], shown: Bags) -> Any:
        """What comes out of the layers."""
        import torch

        hidden = torch.tanh(shown.sums_in(torch, weights["inputs"]) + weights["inputs_bias"])
        return run_layers(torch, weights, "encoder", hidden, "tanh")

    def middle(self, weights: dict[str, Any], bottom: Any, draws: Draws) -> tuple[Any, Any]:
        """z, and what its making adds to the loss of all these users together."""
        return bottom, 0.0

    def item_vectors(self) -> np.ndarray:
        """y with b behind."""
        return np.column_stack([self.weights_["outputs"], self.weights_["outputs_bias"]])

    graph_inputs: ClassVar[dict[str, str]] = {
        "sums": "the sum over a history of rows of `inputs`, by weights of `weighting` divided by their length"
    }

    def parts(self) -> list[NetworkPart]:
        """The history's way to z, and the items' vectors."""
        weights, n_items = self._first_of_bottom(), len(self.item_factors_)
        width = self.weights_["inputs"].shape[1]
        return [
            table_part("user", "history", f"{n_items:,} items, summed; tanh", n_items + 1, width),
            *layer_parts("user", "encoder", weights, "layer"),
            table_part("item", "item", f"{n_items:,} items, a bias each", n_items, self.rank + 1),
            NetworkPart("both", "score", "product, and the item's bias", 1, 0),
        ]

    def build_network(self) -> bytes:
        """From the sum over a history of rows of `inputs` to z."""
        weights, builder = self.weights_, NetworkBuilder(self.family)
        width = weights["inputs"].shape[1]
        x = builder.op("Add", builder.input("sums", FREE, width), builder.constant(weights["inputs_bias"]))
        hidden = builder.op("Tanh", x)
        out = build_layers(builder, self._first_of_bottom(), "encoder", hidden, "tanh")
        return builder.build(out, FREE, self.rank)

    def _first_of_bottom(self) -> Arrays:
        """The encoder's layers, of the last only what makes the first `rank` numbers: z where nothing is drawn."""
        weights = {name: array for name, array in self.weights_.items() if name.startswith("encoder.")}
        last = n_layers_of(weights, "encoder") - 1
        if last >= 0:
            for part in ("weight", "bias"):
                weights[f"encoder.{last}.{part}"] = weights[f"encoder.{last}.{part}"][..., : self.rank]
        return weights

    def encode(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """z of histories of which nothing is hidden."""
        amounts = self.lengthened(bounds, weigh(values, self.weighting, self.family))
        return with_ones(self.network(sums=Bags(bounds, items, amounts).sums(self.weights_["inputs"])))

    def state(self) -> Arrays:
        """Vectors, and the encoder."""
        kept = {name: array for name, array in self.weights_.items() if not name.startswith("outputs")}
        return super().state() | kept

    def layout(self, train: InteractionMatrix) -> Layout:
        """The encoder as wide as the parameters say."""
        widths = [*self.layers, self.bottom * self.rank]
        return {
            **super().layout(train),
            "user_factors": ArraySpec("float32", (len(train.users), self.rank + 1)),
            "item_factors": ArraySpec("float32", (len(train.items), self.rank + 1)),
            "inputs": ArraySpec("float32", (len(train.items), widths[0])),
            "inputs_bias": ArraySpec("float32", (widths[0],)),
            **layers_layout("encoder", widths),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load both."""
        self.weights_ = {name: array for name, array in arrays.items() if not name.endswith("_factors")}
        self.network_ = None
        return super().load_state(arrays, train)


def log_shares(train: InteractionMatrix) -> np.ndarray:
    """The log of each item's share of all cells, an item without one as if it had half of one: float32 (n_items,)."""
    counts = np.maximum(train.item_counts.astype(np.float64), 0.5)
    return np.log(counts / counts.sum()).astype(np.float32)
