"""Restricted Boltzmann machine of what users have."""

from __future__ import annotations

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
from gleaner.core.models.neural.machinery.bags import Bags
from gleaner.core.models.neural.machinery.encoded_factors import EncodedFactors, with_ones
from gleaner.core.models.neural.machinery.network_model import DivergedError, Draws, UserNetwork
from gleaner.core.models.neural.machinery.network_parts import NetworkPart, table_part
from gleaner.core.models.neural.machinery.onnx_network import FREE, NetworkBuilder
from gleaner.core.models.neural.machinery.optimiser import Optimiser


@dataclass(repr=False)
class Boltzmann(UserNetwork, EncodedFactors):
    """Units v_i, 1 where a user has item i, and `rank` hidden ones h_f, with P(h_f = 1 | v) = sigmoid(c_f + sum_i v_i
    W_if) and P(v_i = 1 | h) = sigmoid(b_i + sum_f h_f W_if).

    Fitted by contrastive divergence: W moves by the mean of v h on the data less that after `steps` turns of Gibbs
    sampling from it (Hinton 2002; for users and items: Salakhutdinov, Mnih, Hinton 2007). The loss told by epoch is the
    mean squared error of that reconstruction. score(u, i) = b_i + W_i . P(h | v_u).
    """

    family: ClassVar[str] = "boltzmann"
    summary: ClassVar[str] = "hidden units that are on or off, and what a user has by them"
    source: ClassVar[str] = "Hinton 2002; Salakhutdinov, Mnih, Hinton 2007"
    unfit: ClassVar[str] = "more than some ten thousand items: every user says of each whether they have it"
    effort: ClassVar[str] = "per iteration about 6 users items rank"

    rank: int = parameter(64, "hidden units")
    steps: int = parameter(1, "turns of Gibbs sampling")
    iterations: int = parameter(25, "passes over the users, at most")
    batch: int = parameter(32, "users that one step looks at")
    learning_rate: float = parameter(0.005, "of the gradient steps")
    patience: int = parameter(10, "judged rounds without a better one after which learning stops; 0 never stops")
    regularisation: float = parameter(1e-4, "lambda of the objective")

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("steps", self.steps, 1, 100, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Every item of every user, forth and back at each turn."""
        turns = 1 + params["steps"]
        work = params["iterations"] * shape[0] * shape[1] * (0.6 * turns * params["rank"] + 8.0)
        return Cost(work, 16.0 * params["rank"] * shape[1] + 20.0 * params["batch"] * shape[1])

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Histories, of the users who have one."""
        self._histories = Bags(train.indptr, train.indices, np.ones(train.n_cells, np.float32))
        super().prepare(train, features)

    def end(self) -> None:
        """Let go of the histories."""
        super().end()
        del self._histories

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """Small weights; items are on as often as they are taken."""
        train = self.trained_on
        share = np.clip(train.item_counts / max(1, len(self._users)), 1e-4, 0.99)
        return {
            "weights": (random.standard_normal((len(train.items), self.rank)) * 0.01).astype(np.float32),
            "items_bias": np.log(share / (1 - share)).astype(np.float32),
            "hidden_bias": np.zeros(self.rank, np.float32),
        }

    def step(self, optimiser: Optimiser, units: np.ndarray, draws: Draws) -> float:
        """One step by contrastive divergence, and the squared error of the reconstruction."""
        import torch

        weights = {name: tensor.detach() for name, tensor in optimiser.tensors.items()}
        bags = self._histories.some(self._users[units])
        data = torch.zeros(len(units), len(weights["items_bias"]))
        owner = torch.from_numpy(np.repeat(np.arange(len(units)), np.diff(bags.indptr)))
        data[owner, torch.from_numpy(bags.rows.astype(np.int64))] = 1.0
        W, b, c = weights["weights"], weights["items_bias"], weights["hidden_bias"]
        first = torch.sigmoid(data @ W + c)
        hidden, visible = first, data
        if not bool(torch.isfinite(first).all()):
            raise DivergedError
        for _ in range(self.steps):
            on = torch.bernoulli(hidden, generator=draws.generator)
            visible = torch.sigmoid(on @ W.T + b)
            hidden = torch.sigmoid(visible @ W + c)
        n = len(units)
        error = float(((data - visible) ** 2).mean())
        if not np.isfinite(error):
            raise DivergedError
        optimiser.step_by({
            "weights": (visible.T @ hidden - data.T @ first) / n + self.regularisation * W,
            "items_bias": (visible - data).mean(dim=0),
            "hidden_bias": (hidden - first).mean(dim=0),
        })  # fmt: skip
        return error

    def item_vectors(self) -> np.ndarray:
        """W with b behind."""
        return np.column_stack([self.weights_["weights"], self.weights_["items_bias"]])

    graph_inputs: ClassVar[dict[str, str]] = {
        "sums": "the sum over a history of the vectors of its items, biases left out"
    }

    def parts(self) -> list[NetworkPart]:
        """The hidden units, and the items'."""
        n_items = len(self.item_factors_)
        return [
            NetworkPart("user", "hidden units", f"{n_items:,} items, summed; sigmoid", self.rank, self.rank),
            table_part("item", "item", f"{n_items:,} items, a bias each", n_items, self.rank + 1),
            NetworkPart("both", "score", "product, and the item's bias", 1, 0),
        ]

    def build_network(self) -> bytes:
        """From the sum over a history of rows of W to the chances of the hidden units."""
        builder = NetworkBuilder(self.family)
        x = builder.op("Add", builder.input("sums", FREE, self.rank), builder.constant(self.weights_["hidden_bias"]))
        return builder.build(builder.op("Sigmoid", x), FREE, self.rank)

    def encode(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The chances of the hidden units, of histories."""
        bags = Bags(bounds, items, np.ones(len(items), np.float32))
        return with_ones(self.network(sums=bags.sums(self.item_factors_[:, : self.rank])))

    def state(self) -> Arrays:
        """Vectors, those of items being W and b, and c."""
        return super().state() | {"hidden_bias": self.weights_["hidden_bias"]}

    def layout(self, train: InteractionMatrix) -> Layout:
        """As wide as there are hidden units."""
        return {
            "user_factors": ArraySpec("float32", (len(train.users), self.rank + 1)),
            "item_factors": ArraySpec("float32", (len(train.items), self.rank + 1)),
            "hidden_bias": ArraySpec("float32", (self.rank,)),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load all."""
        self.weights_, self.network_ = {"hidden_bias": arrays["hidden_bias"]}, None
        return super().load_state(arrays, train)
