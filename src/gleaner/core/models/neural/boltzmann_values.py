"""Restricted Boltzmann machine of ratings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import DataError, require_range
from gleaner.core.models.base.capabilities import FoldsIn
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned, no_array
from gleaner.core.models.base.values import Biases, ValueModel, value_layout
from gleaner.core.models.base.watching import HeldOutCells, Watch
from gleaner.core.models.neural.machinery.bags import Bags
from gleaner.core.models.neural.machinery.network_model import DivergedError, Draws, UserNetwork
from gleaner.core.models.neural.machinery.network_parts import NetworkPart, table_part
from gleaner.core.models.neural.machinery.onnx_network import FREE, NetworkBuilder
from gleaner.core.models.neural.machinery.optimiser import Optimiser

MOST_LEVELS = 20
"""Different values up to which each is a level of its own; more are cut into so many of equal breadth as below."""
LEVELS = 10
PAIRS_AT_ONCE = 16_384


@dataclass(repr=False)
class BoltzmannValues(UserNetwork, ValueModel, FoldsIn):
    """A softmax unit over the levels k of the values for each item that a user rated, and `rank` hidden units that are
    on or off, with P(h_f = 1 | v) = sigmoid(c_f + sum over the items rated of W_ikf) and P(v_i = k | h) proportional to
    exp(b_ik + sum_f h_f W_ikf). Items that a user did not rate have no unit (Salakhutdinov, Mnih, Hinton 2007).

    Fitted by contrastive divergence over the items rated alone. A prediction is the mean of the levels by their
    chances, given those of the hidden units. The loss told by epoch is the mean squared error of ratings told again.
    """

    family: ClassVar[str] = "boltzmann_values"
    summary: ClassVar[str] = "values by hidden units that are on or off, from what was rated alone"
    source: ClassVar[str] = "Salakhutdinov, Mnih, Hinton 2007"
    unfit: ClassVar[str] = "when users have few ratings: als_values or fm_values say more of them"
    effort: ClassVar[str] = "per iteration about 4 cells levels rank"

    rank: int = parameter(32, "hidden units")
    steps: int = parameter(1, "turns of Gibbs sampling")
    iterations: int = parameter(25, "passes over the users, at most")
    batch: int = parameter(32, "users that one step looks at")
    learning_rate: float = parameter(0.005, "of the gradient steps")
    regularisation: float = parameter(1e-3, "lambda of the objective")
    patience: int = parameter(10, "judged rounds without a better one after which learning stops; 0 never stops")
    levels_: np.ndarray = learned(no_array)

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("steps", self.steps, 1, 100, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Every rating, at every level, forth and back at each turn."""
        turns, per_item = 1 + params["steps"], LEVELS * params["rank"]
        steps = shape[0] / params["batch"]
        work = params["iterations"] * (cells * per_item * (2.0 * turns + 2.0) + steps * shape[1] * per_item)
        return Cost(work, 16.0 * shape[1] * per_item + 60.0 * per_item * cells / steps)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """With biases to fall back on."""
        self.learn_biases(train)
        super().learn(train, features, watch)

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Ratings as levels, of the users who have one."""
        self.levels_ = levels_of(train.values)
        codes = self._codes(train.values)
        rows = train.indices.astype(np.int64) * len(self.levels_) + codes
        self._ratings = Bags(train.indptr, rows, np.ones(train.n_cells, np.float32))
        super().prepare(train, features)

    def _codes(self, values: np.ndarray) -> np.ndarray:
        """The place of the nearest level: int64."""
        return np.abs(np.asarray(values, np.float32)[:, None] - self.levels_).argmin(axis=1)

    def end(self) -> None:
        """Let go of the ratings."""
        super().end()
        del self._ratings

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """Small weights; levels are as frequent as with each item, and a little as with all."""
        n_items, n_levels = len(self.trained_on.items), len(self.levels_)
        counts = np.bincount(self._ratings.rows, minlength=n_items * n_levels).reshape(n_items, n_levels)
        usual = counts.sum(axis=0) / max(1, counts.sum())
        shares = (counts + 5 * usual + 1e-3) / (counts.sum(axis=1, keepdims=True) + 5 + 1e-3 * n_levels)
        return {
            "weights": (random.standard_normal((n_items * n_levels, self.rank)) * 0.01).astype(np.float32),
            "levels_bias": np.log(shares).astype(np.float32).ravel(),
            "hidden_bias": np.zeros(self.rank, np.float32),
        }

    def step(self, optimiser: Optimiser, units: np.ndarray, draws: Draws) -> float:
        """One step by contrastive divergence, and the squared error of the ratings told again."""
        import torch

        weights = {name: tensor.detach() for name, tensor in optimiser.tensors.items()}
        n_levels, bags = len(self.levels_), self._ratings.some(self._users[units])
        owner = torch.from_numpy(np.repeat(np.arange(len(units)), np.diff(bags.indptr)))
        rows, codes = torch.from_numpy(bags.rows), torch.from_numpy(bags.rows % n_levels)
        firsts = rows - codes
        # every level of the items that were rated: (ratings, levels)
        places = firsts[:, None] + torch.arange(n_levels)
        W, b, c = weights["weights"][places], weights["levels_bias"][places], weights["hidden_bias"]
        data = torch.nn.functional.one_hot(codes, n_levels).to(W.dtype)

        def hidden_of(visible: Any) -> Any:
            brought = torch.einsum("rk,rkf->rf", visible, W)
            return torch.sigmoid(torch.zeros(len(units), self.rank).index_add_(0, owner, brought) + c)

        first = hidden_of(data)
        hidden, told = first, data
        if not bool(torch.isfinite(first).all()):
            raise DivergedError
        for _ in range(self.steps):
            on = torch.bernoulli(hidden, generator=draws.generator)
            told = torch.softmax(torch.einsum("rkf,rf->rk", W, on[owner]) + b, dim=1)
            hidden = hidden_of(told)
        levels = torch.from_numpy(self.levels_)
        error = float(((told @ levels - levels[codes]) ** 2).mean())
        if not np.isfinite(error):
            raise DivergedError
        n = len(units)
        pull = (told[:, :, None] * hidden[owner][:, None] - data[:, :, None] * first[owner][:, None]) / n
        pull = pull + (self.regularisation / n) * W
        optimiser.step_by({
            "weights": _rows_of(torch, places, pull, weights["weights"]),
            "levels_bias": _rows_of(torch, places, (told - data) / n, weights["levels_bias"]),
            "hidden_bias": (hidden - first).mean(dim=0),
        })  # fmt: skip
        return error

    def update(self) -> None:
        """Predictions are made of the weights as they are."""

    def hidden(self, bags: Bags) -> np.ndarray:
        """Chances of the hidden units for ratings, as rows of the weights: float32 (n, rank)."""
        straight = bags.sums(self.weights_["weights"]) + self.weights_["hidden_bias"]
        return np.asarray(1 / (1 + np.exp(-straight)), np.float32)

    def _bags(self, user_rows: np.ndarray) -> Bags:
        train, n_levels = self.trained_on, len(self.levels_)
        some = Bags(train.indptr, train.indices, train.values).some(user_rows)
        rows = some.rows.astype(np.int64) * n_levels + self._codes(some.amounts)
        return Bags(some.indptr, rows, np.ones(len(rows), np.float32))

    def _means(self, hidden: np.ndarray, items: np.ndarray) -> np.ndarray:
        """Means of the levels, each row of the hidden units with its items: float32 of the shape of items (n, m)."""
        n_levels = len(self.levels_)
        places = items.astype(np.int64)[..., None] * n_levels + np.arange(n_levels)
        straight = np.einsum("nmkf,nf->nmk", self.weights_["weights"][places], hidden)
        return self._mean_levels(straight + self.weights_["levels_bias"][places])

    def _mean_levels(self, straight: np.ndarray) -> np.ndarray:
        chances = np.exp(straight - straight.max(axis=-1, keepdims=True))
        return np.asarray((chances @ self.levels_) / chances.sum(axis=-1), np.float32)

    def _all_means(self, hidden: np.ndarray) -> np.ndarray:
        straight = hidden @ self.weights_["weights"].T + self.weights_["levels_bias"]
        return self._mean_levels(straight.reshape(len(hidden), -1, len(self.levels_)))

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """The means of the levels of every item."""
        n_items = len(self.trained_on.items)
        out = np.empty((len(user_rows), n_items), np.float32)
        block = max(1, 4_000_000 // (n_items * len(self.levels_)))
        hidden = self.hidden(self._bags(np.asarray(user_rows)))
        for lo in range(0, len(out), block):
            out[lo : lo + block] = self._all_means(hidden[lo : lo + block])
        return out

    def predict(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The same of pairs: float32 (n,)."""
        who, place = np.unique(users, return_inverse=True)
        hidden, out = self.hidden(self._bags(who)), np.empty(len(users), np.float32)
        block = max(1, PAIRS_AT_ONCE * 32 // self.rank)
        for lo in range(0, len(users), block):
            some = slice(lo, lo + block)
            out[some] = self._means(hidden[place[some]], items[some, None])[:, 0]
        return out

    def held_out_loss(self, held_out: HeldOutCells) -> float | None:
        """The mean squared error."""
        if held_out.values is None:
            return None
        miss = held_out.values - self.predict(held_out.users, held_out.items).astype(np.float64)
        return float(np.mean(miss**2))

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The chances of the hidden units: float32 (rank,)."""
        rows = np.asarray(item_rows, np.int64) * len(self.levels_) + self._codes(values)
        bounds = np.array([0, len(rows)], np.int64)
        return self.hidden(Bags(bounds, rows, np.ones(len(rows), np.float32)))[0]

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """The means of the levels of every item."""
        return self._all_means(representation[None])[0]

    graph_inputs: ClassVar[dict[str, str]] = {
        "sums": "the sum over what was rated of rows of `weights`: of item i at level k, row i times the levels plus k"
    }

    def parts(self) -> list[NetworkPart]:
        """The hidden units, the levels of items, and their mean."""
        n_items, n_levels = len(self.trained_on.items), len(self.levels_)
        return [
            NetworkPart("user", "hidden units", "ratings, summed; sigmoid", self.rank, self.rank),
            table_part("item", "levels", f"{n_items:,} items at {n_levels} levels", n_items * n_levels, self.rank + 1),
            NetworkPart("both", "value", f"softmax over {n_levels} levels, and their mean", 1, 0),
        ]

    def graphs(self) -> dict[str, bytes]:
        """From what was rated to the values of all items."""
        return {"values": self.build_network()}

    def build_network(self) -> bytes:
        """From the sum over what was rated of rows of the weights to the values of all items, as ONNX."""
        builder, weights, n_levels = NetworkBuilder(self.family), self.weights_, len(self.levels_)
        x = builder.op("Add", builder.input("sums", FREE, self.rank), builder.constant(weights["hidden_bias"]))
        straight = builder.linear(builder.op("Sigmoid", x), weights["weights"].T, weights["levels_bias"])
        shape = builder.constant(np.array([0, -1, n_levels], np.int64))
        chances = builder.op("Softmax", builder.op("Reshape", straight, shape), axis=-1)
        told = builder.op("MatMul", chances, builder.constant(self.levels_))
        return builder.build(told, FREE, len(weights["levels_bias"]) // n_levels)

    def state(self) -> Arrays:
        """Weights, levels, biases to fall back on, and the scale."""
        scale = {"scale": np.array(self.scale_, dtype=np.float64), "levels": self.levels_}
        return self.weights_ | scale | self.biases_.arrays()

    def layout(self, train: InteractionMatrix) -> Layout:
        """A vector for every level of every item."""
        return {
            "weights": ArraySpec("float32", ("levels of items", self.rank)),
            "levels_bias": ArraySpec("float32", ("levels of items",)),
            "hidden_bias": ArraySpec("float32", (self.rank,)),
            "levels": ArraySpec("float32", ("levels",), rising=True),
            **value_layout(train),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load all. Raises DataError where there is not one vector for every level of every item."""
        self.levels_, self.train_ = arrays["levels"], train
        if len(arrays["levels_bias"]) != len(self.levels_) * len(train.items):
            text = f"{self.family}: array 'levels_bias' must hold {len(self.levels_)} levels of each item"
            raise DataError(text, where="levels_bias")
        self.weights_ = {name: arrays[name] for name in ("weights", "levels_bias", "hidden_bias")}
        self.biases_ = Biases.from_arrays(arrays)
        self.scale_ = (float(arrays["scale"][0]), float(arrays["scale"][1]))
        return self


def levels_of(values: np.ndarray) -> np.ndarray:
    """The levels that values have: float32, rising."""
    levels = np.unique(values).astype(np.float32)
    if len(levels) <= MOST_LEVELS:
        return levels
    return np.linspace(levels[0], levels[-1], LEVELS, dtype=np.float32)


def _rows_of(torch: Any, places: Any, pull: Any, table: Any) -> Any:
    """A gradient that holds some rows of a table only."""
    rows, values = places.reshape(1, -1), pull.reshape(-1, *table.shape[1:])
    return torch.sparse_coo_tensor(rows, values, table.shape, check_invariants=False)
