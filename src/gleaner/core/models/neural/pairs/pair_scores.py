"""What ranking networks share: they look at a user, a context and an item together, pair by pair."""

from __future__ import annotations

from abc import abstractmethod
from copy import copy
from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.column_encoding import ColumnEncoding
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import require_columns
from gleaner.core.errors import DataError, require_range
from gleaner.core.models.base.capabilities import (
    Explains,
    FoldsIn,
    KnowsColumns,
    ScoresSome,
    SideName,
    TakesFeatures,
    Terms,
)
from gleaner.core.models.base.context import TakesContext
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned, no_array
from gleaner.core.models.neural.machinery.bags import Bags, spread_evenly
from gleaner.core.models.neural.machinery.layers import layers_layout, require_layers
from gleaner.core.models.neural.machinery.network_model import LossNetwork
from gleaner.core.models.neural.machinery.network_parts import NetworkPart, Side, column_part, layer_parts, table_part
from gleaner.core.models.neural.machinery.side_inputs import (
    ENCODINGS_LAYOUT,
    SideInputs,
    encodings_state,
    inputs_again,
    read_encodings,
)
from gleaner.core.models.neural.pairs.crosses import Crosses, crossed_features, table_of
from gleaner.core.models.neural.pairs.heads import PREFIX, Head
from gleaner.core.models.neural.pairs.pair_inputs import context_rows, stack

PAIRS_AT_ONCE = 16_384
KEPT = ("histories", "user_columns", "item_columns", "context")
"""Tables that serving needs: of what may come new."""
CROSSED_NAME = "crosses of columns"
FORMULA = "by how much the score moves as the vectors come in one after the other, the mean of both orders"


@dataclass(repr=False)
class PairScores(LossNetwork, TakesFeatures, TakesContext, FoldsIn, ScoresSome, KnowsColumns, Explains):
    """score = base + head(left, right): left, a vector and a weight of the user, of the sum over what they had, of each
    of their columns and of each column of the context; right, of the item and of each of its columns."""

    crossing: ClassVar[bool] = False
    """Whether features of both sides have a weight for each that meets another."""

    iterations: int = parameter(12, "passes over the data, at most")
    rank: int = parameter(16, "length of the vectors")
    layers: list[int] = parameter([64, 32], "widths of the layers")
    item_columns: list[str] | None = parameter(
        None, "columns of the item table to look at; none given: every one that says something"
    )
    user_columns: list[str] | None = parameter(
        None, "columns of the user table to look at; none given: every one that says something"
    )
    context_columns: list[str] | None = parameter(
        None,
        "columns of the interaction to look at, or time.hour, time.weekday, time.month; none given: all kept with it",
    )
    init_scale: float = parameter(0.1, "spread of the first vectors, over the root of the rank")
    columns_: dict[SideName, list[ColumnEncoding]] = learned(lambda: {"users": [], "items": []})
    encoder_: ContextEncoder = learned(ContextEncoder)
    head_: Head | None = learned(lambda: None)
    crosses_: Crosses | None = learned(lambda: None)
    crossed_: np.ndarray = learned(no_array)
    users_: np.ndarray = learned(no_array)
    right_: np.ndarray = learned(no_array)
    base_: float = learned(lambda: 0.0)

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("rank", self.rank, 1, 1024, whole=True)
        require_layers("layers", self.layers)
        for name in ("item_columns", "user_columns", "context_columns"):
            require_columns(name, getattr(self, name))
        require_range("init_scale", self.init_scale, 1e-6, 10)

    makes_head: ClassVar[type[Head]]
    """What puts left and right together."""

    def new_head(self) -> Head:
        """The same for so many vectors of both sides, before it has weights."""
        return self.makes_head(self.layers, self.n_left, self.n_right, self.rank)

    @abstractmethod
    def amounts_of(self, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """How much each item of a history counts in its sum: float32 (n,)."""

    @property
    def encoder(self) -> ContextEncoder:
        """How the columns of the interaction that were looked at are read."""
        return self.encoder_

    @property
    def head(self) -> Head:
        """What puts left and right together."""
        assert self.head_ is not None
        return self.head_

    @property
    def n_left(self) -> int:
        """Vectors of whoever asks: their own, of their history, of their columns and of the context."""
        return 2 + len(self.columns_["users"]) + len(self.encoder_.columns)

    @property
    def n_right(self) -> int:
        """Vectors of an item: its own, and of its columns."""
        return 1 + len(self.columns_["items"])

    def _right_of(self, own: np.ndarray, items: SideInputs) -> np.ndarray:
        parts = [own[:, None]]
        if items.encodings:
            parts.append(items.vectors(self.weights_["item_columns"]))
        return stack(parts)

    def _history_sums(self, bounds: np.ndarray, items: np.ndarray, amounts: np.ndarray) -> np.ndarray:
        return Bags(bounds, items, amounts * spread_evenly(bounds)).sums(self.weights_["histories"])

    def _left_of(self, users: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        """Vectors of users with those of the context behind: float32 (n, n_left, rank + 1)."""
        if not self.encoder_.columns:
            return users
        return stack([users, self.weights_["context"][context_rows(self.encoder_, context, len(users))]])

    def _crossed_of(self, crossed: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        assert self.crosses_ is not None
        return crossed + self.crosses_.of_context(context_rows(self.encoder_, context, len(crossed)))

    def _scored(self, users: np.ndarray, crossed: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        """Scores of every item: float32 (n, n_items)."""
        out = self.head.scores(self._left_of(users, context)) + np.float32(self.base_)
        if self.crosses_ is not None:
            out += self.crosses_.scores(self._crossed_of(crossed, context))
        return out

    def paired(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        """Scores of pairs, each in their row of the context: float32 (n,)."""
        out = np.empty(len(users), np.float32)
        for lo in range(0, len(users), PAIRS_AT_ONCE):
            some = slice(lo, lo + PAIRS_AT_ONCE)
            here, who = None if context is None else context[some], users[some]
            out[some] = self.head.pairs(self._left_of(self.users_[who], here), self.right_[items[some]])
            if self.crosses_ is not None:
                out[some] += self.crosses_.pairs(self._crossed_of(self.crossed_[who], here), items[some])
        return out + np.float32(self.base_)

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Of every item, of the context nothing known."""
        return self._scored(self.users_[user_rows], self.crossed_[user_rows], None)

    def scores_in(self, user_rows: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """The same, each user in their row of the context."""
        return self._scored(self.users_[user_rows], self.crossed_[user_rows], context)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Their vectors, of which those of their own and of their columns are zeros, one after the other."""
        return self._folded(np.zeros((1, self._n_users_vectors, self.rank + 1), np.float32), None, item_rows, values)

    @property
    def _n_users_vectors(self) -> int:
        return 2 + len(self.columns_["users"])

    def _folded(
        self, users: np.ndarray, crossed: np.ndarray | None, item_rows: np.ndarray, values: np.ndarray
    ) -> np.ndarray:
        items = np.asarray(item_rows, np.int32)
        bounds, amounts = np.array([0, len(items)], np.int64), self.amounts_of(items, np.asarray(values, np.float32))
        users[:, 1] = self._history_sums(bounds, items, amounts)
        nothing = np.zeros((1, self.crossed_.shape[1]), np.float32)
        return np.concatenate([users.ravel(), (nothing if crossed is None else crossed).ravel()])

    def _unfolded(self, representation: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        n = self._n_users_vectors * (self.rank + 1)
        return representation[None, :n].reshape(1, -1, self.rank + 1), representation[None, n:]

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Of every item, of the context nothing known."""
        return self._scored(*self._unfolded(representation), None)[0]

    def scores_of_in(self, representation: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """The same, in a context of one row."""
        return self._scored(*self._unfolded(representation), context)[0]

    def as_folded(self, user_row: int) -> np.ndarray:
        """Their vectors, with that of their own."""
        return np.concatenate([self.users_[user_row].ravel(), self.crossed_[user_row].ravel()])

    def scores_among(
        self, representation: np.ndarray, item_rows: np.ndarray, context: pl.DataFrame | None
    ) -> np.ndarray:
        """By the layers of these items alone."""
        users, crossed = self._unfolded(representation)
        out = self.head.scores_among(self._left_of(users, context), item_rows) + np.float32(self.base_)
        if self.crosses_ is not None:
            out += self.crosses_.scores_among(self._crossed_of(crossed, context), item_rows)
        return out

    def column_names(self, side: SideName) -> list[str]:
        """Those of one table."""
        return [each.column for each in self.columns_[side]]

    def factors_of_rows(self, side: SideName, rows: pl.DataFrame) -> np.ndarray:
        """Vectors of their columns, one after the other, behind zeros for what is not known: float32 (n, width)."""
        inputs = inputs_again(self.columns_[side], rows)
        if side == "items":
            own = np.zeros((rows.height, self.rank + 1), np.float32)
            return self._right_of(own, inputs).reshape(rows.height, -1)
        users = np.zeros((rows.height, self._n_users_vectors, self.rank + 1), np.float32)
        if inputs.encodings:
            users[:, 2:] = inputs.vectors(self.weights_["user_columns"])
        return users.reshape(rows.height, -1)

    def fold_in_row(self, row: pl.DataFrame, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Their vectors, that of their own being zero."""
        users = self.factors_of_rows("users", row).reshape(1, -1, self.rank + 1)
        return self._folded(users, self._crossed_rows(row), item_rows, values)

    def _crossed_rows(self, rows: pl.DataFrame) -> np.ndarray:
        if self.crosses_ is None:
            return np.zeros((rows.height, 0), np.float32)
        return self.crosses_.of_users(inputs_again(self.columns_["users"], rows))

    def with_rows(self, side: SideName, train: InteractionMatrix, rows: pl.DataFrame) -> Model:
        """With their vectors behind the others."""
        extended = copy(self)
        extended.train_ = train
        vectors = self.factors_of_rows(side, rows).reshape(rows.height, -1, self.rank + 1)
        if side == "users":
            extended.users_ = np.concatenate([self.users_, vectors])
            extended.crossed_ = np.concatenate([self.crossed_, self._crossed_rows(rows)])
            return extended
        extended.right_ = np.concatenate([self.right_, vectors])
        nothing = np.zeros((rows.height, self.rank + 1), np.float32)
        extended.weights_ = self.weights_ | {"histories": np.concatenate([self.weights_["histories"], nothing])}
        extended.head_ = self.new_head()
        extended.head_.take(self.weights_, extended.right_)
        if self.crosses_ is not None:
            inputs = inputs_again(self.columns_["items"], rows)
            extended.crosses_ = self.crosses_.with_items(table_of(inputs, crossed_features(inputs)))
        return extended

    def terms_in(self, user_row: int, item_row: int, context: pl.DataFrame | None) -> Terms:
        """By how much each vector moves the score as they come in one after the other from nothing: the mean of both
        orders, from the first on and from the last on. Crosses add what they add."""
        left, right = self._left_of(self.users_[[user_row]], context)[0], self.right_[item_row]
        whole = np.concatenate([left, right])
        n = len(whole)
        there = np.concatenate([np.tri(n + 1, n, -1), np.tri(n + 1, n, -1)[:, ::-1]]).astype(np.float32)
        steps = whole[None] * there[:, :, None]
        scores = self.head.pairs(steps[:, : len(left)], steps[:, len(left) :]).astype(np.float64)
        forth, back = np.diff(scores[: n + 1]), np.diff(scores[n + 1 :])[::-1]
        names, adds = self._vector_names(), (forth + back) / 2
        if self.crosses_ is not None:
            crossed = self._crossed_of(self.crossed_[[user_row]], context)
            names, adds = [*names, CROSSED_NAME], np.append(adds, self.crosses_.pairs(crossed, np.array([item_row])))
        lengths = np.append(np.linalg.norm(whole[:, :-1], axis=1), [np.nan] * (len(adds) - n))[: len(adds)]
        columns = {"length": np.nan_to_num(lengths), "adds": adds}
        return Terms("input", np.arange(len(adds)), columns, FORMULA, float(scores[0]) + self.base_, names)

    def terms(self, user_row: int, item_row: int) -> Terms:
        """The same, of the context nothing known."""
        return self.terms_in(user_row, item_row, None)

    def _vector_names(self) -> list[str]:
        users, items = ([each.column for each in self.columns_[side]] for side in ("users", "items"))
        context = [f"context: {name}" for name in self.encoder_.names]
        left = ["user", "what they had", *(f"user: {name}" for name in users), *context]
        return [*left, "item", *(f"item: {name}" for name in items)]

    graph_inputs: ClassVar[dict[str, str]] = {
        "left": "what the vectors of user and context bring to the first layer, with its bias",
        "right": "what the vectors of the item bring to it",
        "left_vectors": "the vectors of user and context, weights left out, where products are taken of them",
        "right_vectors": "those of the item",
    }

    def graphs(self) -> dict[str, bytes]:
        """The layers, from what both sides bring to the first of them."""
        return {"layers": self.head.build()} if self.layers else {}

    def parts(self) -> list[NetworkPart]:
        """Tables of both sides, and where they meet."""
        n_items, width = len(self.right_), self.rank + 1
        user = table_part("user", "user id", f"{len(self.users_):,} users", len(self.users_), width)
        parts = [user, table_part("user", "history", f"{n_items:,} items, summed", n_items, width)]
        for name, n in zip(self.encoder_.names, self.encoder_.n_features, strict=True):
            parts.append(column_part("user", f"context: {name}", n, width))
        parts.append(table_part("item", "item id", f"{n_items:,} items", n_items, width))
        sides: list[tuple[Side, SideName]] = [("user", "users"), ("item", "items")]
        for side, plural in sides:
            for each in self.columns_[plural]:
                parts.append(column_part(side, each.column, len(each.names), width))
        if self.crosses_ is not None:
            weights = self.crosses_.weights
            parts.append(NetworkPart("both", "crosses", "features that meet", 1, weights.size))
        return [
            *parts,
            *layer_parts("both", PREFIX, self.head.weights, "layer"),
            NetworkPart("both", "score", self.head.sums_up, 1, 0),
        ]

    def state(self) -> Arrays:
        """Vectors of both sides, the layers, tables of what may come new, and how columns are read."""
        kept = {name: self.weights_[name] for name in KEPT}
        kept |= {"users": self.users_, "right": self.right_, "base": np.array([self.base_], np.float64)}
        kept |= self.head.weights | encodings_state(self.columns_)
        kept["encoder"] = np.frombuffer(self.encoder_.to_json(), np.uint8)
        if self.crosses_ is not None:
            kept |= self.crosses_.state() | {"crossed": self.crossed_}
        return kept

    def layout(self, train: InteractionMatrix) -> Layout:
        """Of the rank; how many vectors there are depends on the columns."""
        n_users, n_items, width = len(train.users), len(train.items), self.rank + 1
        specs: dict[str, ArraySpec] = {
            "histories": ArraySpec("float32", (n_items, width)),
            "user_columns": ArraySpec("float32", ("features of users", width)),
            "item_columns": ArraySpec("float32", ("features of items", width)),
            "context": ArraySpec("float32", ("features of the context", width)),
            "users": ArraySpec("float32", (n_users, "vectors of a user", width)),
            "right": ArraySpec("float32", (n_items, "vectors of an item", width)),
            "base": ArraySpec("float64", (1,)),
            "encoder": ArraySpec("uint8", ("letters of the context",)),
            **ENCODINGS_LAYOUT,
        }
        if self.layers:
            specs |= layers_layout(PREFIX, ["inputs of the layers", *self.layers, 1])
        if self.crossing:
            specs |= Crosses.layout(n_items)
            specs["crossed"] = ArraySpec("float32", (n_users, "features of items that are crossed"))
        return specs

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load all. Raises DataError where columns, context and layers do not fit each other."""
        self.train_ = train
        self.columns_ = read_encodings(arrays, self.family)
        self.encoder_ = ContextEncoder.from_json(arrays["encoder"].tobytes())
        self.users_, self.right_, self.base_ = arrays["users"], arrays["right"], float(arrays["base"][0])
        self.weights_ = {name: array for name, array in arrays.items() if name in KEPT or name.startswith(PREFIX)}
        self.head_ = self.new_head()
        self._require_sizes(arrays)
        self.head_.take(self.weights_, self.right_)
        self.crossed_ = np.zeros((len(self.users_), 0), np.float32)
        if self.crossing:
            self.crosses_, self.crossed_ = Crosses.load_state(arrays), arrays["crossed"]
        return self

    def _require_sizes(self, arrays: Arrays) -> None:
        sizes = {
            "context": (len(arrays["context"]), sum(self.encoder_.n_features)),
            "users": (self.users_.shape[1], self._n_users_vectors),
            "right": (self.right_.shape[1], self.n_right),
        }
        if self.layers:
            name = f"{PREFIX}.0.weight"
            sizes[name] = len(arrays[name]), self.head.n_inputs
        if self.crossing:
            asking = len(arrays["crossed_users"]) + sum(self.encoder_.n_features)
            sizes["crosses"] = len(arrays["crosses"]), asking
            known = sum(len(each.names) for each in self.columns_["users"])
            sizes["crossed_users"] = int(arrays["crossed_users"].max(initial=-1) < known), 1
        for name, (has, wanted) in sizes.items():
            if has != wanted:
                text = f"{self.family}: array {name!r} does not fit the columns: {has:,} where {wanted:,} are needed"
                raise DataError(text, where=name)
