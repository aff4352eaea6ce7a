"""Self-attention over what someone took last."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import InputError, ParameterError, require_range
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.attention import (
    block_shapes,
    block_weights,
    build_block,
    may_see,
    normed,
    run_block,
)
from gleaner.core.models.neural.machinery.autoencoder import log_shares
from gleaner.core.models.neural.machinery.encoded_factors import EncodedFactors, with_ones
from gleaner.core.models.neural.machinery.network_model import Draws, LossNetwork, UserNetwork
from gleaner.core.models.neural.machinery.network_parts import NetworkPart, table_part
from gleaner.core.models.neural.machinery.onnx_network import FREE, NetworkBuilder

MOST_ITEMS, DRAWN = 2048, 1024
"""Items up to which all are told apart at every place; and how many are drawn for a step where there are more."""


@dataclass(repr=False)
class SelfAttention(UserNetwork, LossNetwork, EncodedFactors):
    """x_u is what `blocks` of self-attention make of the last `length` items of a user, each of which sees those before
    it; score(u, i) = y_i . x_u + b_i, y_i the vector that an item also goes in by (Kang, McAuley 2018; blocks: Vaswani
    et al. 2017).

    At every place of a sequence the loss is - log softmax(score) of the item that came next, over all items, or over
    `negatives` of them, drawn for each step, beside it. Places are counted from the end.
    """

    family: ClassVar[str] = "self_attention"
    summary: ClassVar[str] = "what comes next, from the order of what someone took last"
    source: ClassVar[str] = "Kang, McAuley 2018; Vaswani et al. 2017"
    unfit: ClassVar[str] = "when the order of what someone took says nothing of what they take next"
    effort: ClassVar[str] = "per iteration about 6 cells items rank, or negatives in place of items"

    reads_order: ClassVar[bool] = True
    least: ClassVar[int] = 2

    rank: int = parameter(64, "length of the vectors")
    length: int = parameter(50, "items of a history, the last, that are looked at")
    blocks: int = parameter(1, "of self-attention, one after the other")
    heads: int = parameter(1, "parts of a vector that attend on their own")
    dropout: float = parameter(0.5, "share of what goes in, and of what each block adds, that is hidden while learning")
    negatives: int | None = parameter(
        None, "items drawn against those that came next; none given: all, or 1,024 where there are more than 2,048"
    )
    iterations: int = parameter(20, "passes over the users, at most")
    learning_rate: float = parameter(0.01, "of the gradient steps")
    batch: int = parameter(64, "users that one step looks at")

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("length", self.length, 1, 1000, whole=True)
        require_range("blocks", self.blocks, 1, 12, whole=True)
        require_range("heads", self.heads, 1, 64, whole=True)
        if self.rank % self.heads:
            raise ParameterError(f"heads must divide rank, {self.rank}, and {self.heads} does not", where="heads")
        require_range("dropout", self.dropout, 0, 0.95)
        if self.negatives is not None:
            require_range("negatives", self.negatives, 1, 1_000_000, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Scores of all items, or of those drawn, at every place, and the blocks."""
        rank, length = params["rank"], params["length"]
        against = min(shape[1], params["negatives"] or (DRAWN if shape[1] > MOST_ITEMS else shape[1]))
        places = min(cells, shape[0] * length)
        padded = float(shape[0] * length)
        work = places * against * (rank / 3 + 6) + padded * params["blocks"] * (4.0 * rank * rank + 2.0 * length * rank)
        held = params["batch"] * length * (8.0 * against + 40.0 * rank * params["blocks"] + 12.0 * length)
        return Cost(params["iterations"] * work, held + 16.0 * rank * shape[1] + 4.0 * rank * shape[0])

    def require_fit(self, train: InteractionMatrix) -> None:
        """Without times there is no order."""
        super().require_fit(train)
        if train.days is None or np.isnan(train.days).all():
            text = f"{self.family} learns from the order of what users took, and the data has no times"
            raise InputError(text, where="time")

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Users with at least two items: one to see, one to tell."""
        super().prepare(train, features)
        self._order = self.history_order(train)
        if not len(self._users):
            raise InputError(f"{self.family}: no user has two items, one to see and one to come next", where="data")

    def end(self) -> None:
        """Let go of the order."""
        super().end()
        del self._order

    def history_order(self, train: InteractionMatrix) -> np.ndarray:
        """By moment within a user; cells without one come first."""
        assert train.days is not None
        days = np.where(np.isnan(train.days), -np.inf, train.days)
        return np.lexsort((days, train.user_rows))

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """Vectors of items and of places, and the blocks."""
        n_items, rank = len(self.trained_on.items), self.rank

        def normal(*shape: int) -> np.ndarray:
            return (random.standard_normal(shape) / np.sqrt(rank)).astype(np.float32)

        weights = {"items": normal(n_items, rank), "items_bias": log_shares(self.trained_on)}
        weights["places"] = normal(self.length, rank) * np.float32(0.1)
        for place in range(self.blocks):
            weights |= block_weights(random, f"block.{place}", rank)
        return weights | {"last.scale": np.ones(rank, np.float32), "last.shift": np.zeros(rank, np.float32)}

    def _padded(self, rows: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
        """Sequences with their ends in line: int64 (n, longest), 0 where there is none, and where there is one."""
        longest = max(1, max((len(each) for each in rows), default=1))
        table, there = np.zeros((len(rows), longest), np.int64), np.zeros((len(rows), longest), bool)
        for at, each in enumerate(rows):
            if len(each):
                table[at, -len(each) :] = each
                there[at, -len(each) :] = True
        return table, there

    def loss(self, weights: dict[str, Any], units: np.ndarray, draws: Draws) -> Any:
        """Of the sequences of some users, at every place but the last."""
        import torch

        train = self.trained_on
        ends = [(train.indptr[user], train.indptr[user + 1]) for user in self._users[units]]
        whole = [train.indices[self._order[max(lo, hi - self.length - 1) : hi]] for lo, hi in ends]
        shown, there = self._padded([each[:-1] for each in whole])
        told, _ = self._padded([each[1:] for each in whole])
        out = self._run(torch, weights, torch.from_numpy(shown), there, draws.generator)
        kept = torch.from_numpy(there)
        x, told_items = out[kept], torch.from_numpy(told)[kept]
        n_items = len(train.items)
        negatives = self.negatives or (DRAWN if n_items > MOST_ITEMS else n_items)
        if negatives >= n_items:
            scores = x @ weights["items"].T + weights["items_bias"]
            return torch.nn.functional.cross_entropy(scores, told_items) + self._penalty(weights, x)
        drawn = torch.from_numpy(draws.random.integers(0, n_items, negatives))
        own = (x * weights["items"][told_items]).sum(dim=1) + weights["items_bias"][told_items]
        others = x @ weights["items"][drawn].T + weights["items_bias"][drawn]
        # each item drawn stands for n_items / negatives of them
        others = others + float(np.log(n_items / negatives))
        others = others.masked_fill(drawn[None, :] == told_items[:, None], -1e9)
        whole_sum = torch.logsumexp(torch.cat([own[:, None], others], dim=1), dim=1)
        return (whole_sum - own).mean() + self._penalty(weights, x)

    def _penalty(self, weights: dict[str, Any], x: Any) -> Any:
        return self.regularisation * ((weights["items"] ** 2).sum() + (x**2).mean())

    def _run(self, torch: Any, weights: dict[str, Any], shown: Any, there: np.ndarray, generator: Any) -> Any:
        """What the blocks make of every place: (n, length, rank)."""
        n_places = shown.shape[1]
        x = weights["items"][shown] * self.rank**0.5 + weights["places"][:n_places].flip(0)
        x = _hide(torch, x, self.dropout, generator)
        seen = torch.from_numpy(may_see(there))
        for place in range(self.blocks):
            added = run_block(torch, weights, f"block.{place}", x, seen, self.heads)
            x = x + _hide(torch, added - x, self.dropout, generator)
        return normed(torch, x, weights["last.scale"], weights["last.shift"])

    def item_vectors(self) -> np.ndarray:
        """y with b behind."""
        return np.column_stack([self.weights_["items"], self.weights_["items_bias"]])

    graph_inputs: ClassVar[dict[str, str]] = {
        "sequence": "vectors of the last items times the root of the rank, each with its row of `places`, from the end",
        "seen": "0 where a place may see another, itself and those before it, and -1e9 elsewhere",
    }

    def parts(self) -> list[NetworkPart]:
        """The sequence's way through the blocks, and the items' vectors."""
        n_items, weights = len(self.item_factors_), self.weights_
        return [
            table_part("user", "places", f"the last {self.length} items", self.length, self.rank),
            *(
                NetworkPart(
                    "user",
                    f"block {place + 1}",
                    f"attention with {self.heads} head{'s' if self.heads > 1 else ''}, and two layers",
                    self.rank,
                    sum(array.size for name, array in weights.items() if name.startswith(f"block.{place}.")),
                )
                for place in range(self.blocks)
            ),
            table_part("item", "item", f"{n_items:,} items, a bias each", n_items, self.rank + 1),
            NetworkPart("both", "score", "product, and the item's bias", 1, 0),
        ]

    def build_network(self) -> bytes:
        """From vectors of a sequence, with their places, to that of what comes next."""
        builder = NetworkBuilder(self.family)
        x = builder.input("sequence", FREE, "length", self.rank)
        seen = builder.input("seen", FREE, 1, "length", "length")
        for place in range(self.blocks):
            x = build_block(builder, self.weights_, f"block.{place}", x, seen, self.heads)
        last = builder.op("Gather", x, builder.constant(np.array(-1, np.int64)), axis=1)
        scale, shift = (builder.constant(self.weights_[f"last.{name}"]) for name in ("scale", "shift"))
        out = builder.op("LayerNormalization", last, scale, shift, axis=-1, epsilon=1e-5)
        return builder.build(out, FREE, self.rank)

    def encode(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """What comes next after histories, items from the first taken to the last; of an empty one nothing is known but
        what is taken most."""
        rows = [items[max(lo, hi - self.length) : hi] for lo, hi in itertools.pairwise(bounds)]
        shown, there = self._padded(rows)
        table = self.item_factors_[:, : self.rank]
        x = table[shown] * np.float32(self.rank**0.5) + self.weights_["places"][: shown.shape[1]][::-1]
        vectors = self.network(sequence=x.astype(np.float32), seen=may_see(there))
        vectors[np.diff(bounds) == 0] = 0
        return with_ones(vectors)

    def state(self) -> Arrays:
        """Vectors, those of items being y and b, and the blocks."""
        kept = {name: array for name, array in self.weights_.items() if not name.startswith("items")}
        return super().state() | kept

    def layout(self, train: InteractionMatrix) -> Layout:
        """As wide as the parameters say."""
        rank = self.rank
        shapes = {
            name: shape for index in range(self.blocks) for name, shape in block_shapes(f"block.{index}", rank).items()
        }
        shapes |= {"places": (self.length, rank), "last.scale": (rank,), "last.shift": (rank,)}
        return {
            "user_factors": ArraySpec("float32", (len(train.users), rank + 1)),
            "item_factors": ArraySpec("float32", (len(train.items), rank + 1)),
            **{name: ArraySpec("float32", shape) for name, shape in shapes.items()},
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load all."""
        self.weights_ = {name: array for name, array in arrays.items() if not name.endswith("_factors")}
        self.network_ = None
        return super().load_state(arrays, train)


def _hide(torch: Any, x: Any, share: float, generator: Any) -> Any:
    """Dropout (Srivastava et al. 2014), of seeded draws."""
    if not share:
        return x
    kept = torch.rand(x.shape, generator=generator) >= share
    return x * kept / (1 - share)
