"""Two towers: a network of the user and one of the item, which meet in a product."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.column_encoding import ColumnEncoding
from gleaner.core.data.tables.row_features import Features, chosen, require_columns
from gleaner.core.errors import DataError, ParameterError, require_range
from gleaner.core.models.base.capabilities import HasLogOdds, KnowsColumns, SideName, TakesFeatures
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import fold_by_draws, pair_products
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.neural.machinery.autoencoder import log_shares
from gleaner.core.models.neural.machinery.bags import Bags, forget_untouched, rows_in, spread_evenly
from gleaner.core.models.neural.machinery.encoded_factors import USERS_AT_ONCE, EncodedFactors, with_ones
from gleaner.core.models.neural.machinery.layers import layers_layout, random_layers, require_layers
from gleaner.core.models.neural.machinery.network_model import Draws, LossNetwork
from gleaner.core.models.neural.machinery.network_parts import NetworkPart, Side, column_part, layer_parts, table_part
from gleaner.core.models.neural.machinery.onnx_network import Network
from gleaner.core.models.neural.machinery.side_inputs import (
    ENCODINGS_LAYOUT,
    SideInputs,
    encodings_state,
    inputs_again,
    read_encodings,
)
from gleaner.core.models.neural.machinery.towers import build_tower, run_tower


@dataclass(repr=False)
class TwoTowers(LossNetwork, EncodedFactors, TakesFeatures, KnowsColumns, HasLogOdds):
    """score(u, i) = x_u . y_i + b_i. x_u is what `user_layers` make of a vector of the user's own, one of each column
    and the sum over their items of a vector of each, divided by the root of how many they are; y_i what `item_layers`
    make of a vector of the item's own and one of each column. Without layers x and y are sums of these vectors.

    The loss of a cell (u, i) is - log softmax of score(u, i) among the items of the batch, and `negatives` drawn
    evenly, each less the log of how likely it was to be among them (Yi et al. 2019; mixed: Yang et al. 2020): so it
    stands for the softmax over all items. Of the sum over items the item that is to be told is left out.
    """

    family: ClassVar[str] = "two_towers"
    summary: ClassVar[str] = "a network of the user and one of the item, which meet in a product"
    source: ClassVar[str] = "Yi, Yang, Hong, Cheng et al. 2019; Yang, Yi, Zhu et al. 2020; Covington et al. 2016"
    unfit: ClassVar[str] = "when its ablation says that columns add nothing: plain factors are faster"
    effort: ClassVar[str] = "per iteration about 6 cells (batch + negatives) rank"

    learning_rate: float = parameter(0.001, "of the gradient steps")
    regularisation: float = parameter(1e-3, "lambda of the objective")
    iterations: int = parameter(12, "passes over the data, at most")
    rank: int = parameter(64, "length of the vectors")
    user_layers: list[int] = parameter([], "widths of the layers of the user's network, before the last of `rank`")
    item_layers: list[int] = parameter([], "widths of the layers of the item's network, before the last of `rank`")
    user_ids: bool = parameter(True, "a vector of each user's own")
    item_ids: bool = parameter(True, "a vector of each item's own")
    histories: bool = parameter(True, "the items that a user has, as a sum")
    item_columns: list[str] | None = parameter(
        None, "columns of the item table to look at; none given: every one that says something"
    )
    user_columns: list[str] | None = parameter(
        None, "columns of the user table to look at; none given: every one that says something"
    )
    negatives: int = parameter(0, "items drawn evenly for each batch, beside its own")
    correction: bool = parameter(True, "scores in a batch less the log of how likely its items were to be there")
    temperature: float | None = parameter(
        None, "what cosines are divided by; none given: plain products, however long the vectors"
    )
    init_scale: float = parameter(0.1, "spread of the first vectors, over the root of the rank")
    columns_: dict[SideName, list[ColumnEncoding]] = learned(lambda: {"users": [], "items": []})
    item_network_: Network | None = learned(lambda: None)

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_layers("user_layers", self.user_layers)
        require_layers("item_layers", self.item_layers)
        for name in ("user_ids", "item_ids", "histories", "correction"):
            if not isinstance(getattr(self, name), bool):
                raise ParameterError(f"{name} must be true or false, not {getattr(self, name)!r}", where=name)
        require_columns("item_columns", self.item_columns)
        require_columns("user_columns", self.user_columns)
        require_range("negatives", self.negatives, 0, 1_000_000, whole=True)
        require_range("init_scale", self.init_scale, 1e-6, 10)
        if self.temperature is not None:
            require_range("temperature", self.temperature, 1e-3, 10)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Every cell against every item of its batch, forth and back."""
        batch, rank = min(params["batch"], cells), params["rank"]
        widths = [rank, *params["user_layers"], *params["item_layers"]]
        layers = sum(a * b for a, b in zip([3 * rank, *widths], [*widths, rank], strict=True))
        work = cells * ((batch + params["negatives"]) * (0.5 * rank + 8.0) + 40.0 * rank + layers)
        held = (
            16.0 * layers
            + 24.0 * rank * (2 * shape[1] + shape[0])
            + 8.0 * cells
            + 20.0 * batch * (batch + params["negatives"])
        )
        return Cost(params["iterations"] * work, held)

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of both tables."""
        users, items = self._chosen(features)
        return {"item_columns": [each.name for each in items], "user_columns": [each.name for each in users]}

    def _chosen(self, features: Features) -> Any:
        return (
            chosen(features.users, self.user_columns, "user_columns"),
            chosen(features.items, self.item_columns, "item_columns"),
        )

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Columns of both sides, and histories."""
        users, items = self._chosen(features or Features())
        if not (self.item_ids or items):
            raise ParameterError("without vectors of their own, items need columns", where="item_ids")
        if not (self.user_ids or self.histories or users):
            raise ParameterError("without vectors of their own and histories, users need columns", where="user_ids")
        self._sides = SideInputs.of(users, train.shape[0]), SideInputs.of(items, train.shape[1])
        self.columns_ = {"users": self._sides[0].encodings, "items": self._sides[1].encodings}
        self._histories = Bags(train.indptr, train.indices, np.ones(train.n_cells, np.float32))

    def end(self) -> None:
        """Let go of what only steps need."""
        super().end()
        del self._sides, self._histories

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """Short vectors; the items' biases are how often each is taken."""
        train, users, items = self.trained_on, *self._sides

        def normal(n: int) -> np.ndarray:
            return (random.standard_normal((n, self.rank)) * (self.init_scale / np.sqrt(self.rank))).astype(np.float32)

        weights: Arrays = {"items_bias": log_shares(train)}
        if self.user_ids:
            weights["user_ids"] = normal(train.shape[0])
        if self.item_ids:
            weights["item_ids"] = normal(train.shape[1])
        if self.histories:
            weights["histories"] = normal(train.shape[1])
        weights |= {"user_columns": normal(users.n_features), "item_columns": normal(items.n_features)}
        forget_untouched(train, weights)
        for prefix, widths in (("user", self._widths("users")), ("item", self._widths("items"))):
            weights |= random_layers(random, prefix, widths)
        return weights

    def _widths(self, side: SideName) -> list[int]:
        layers = self.user_layers if side == "users" else self.item_layers
        return [self._n_parts(side) * self.rank, *layers, self.rank] if layers else []

    def _n_parts(self, side: SideName) -> int:
        own = self.user_ids + self.histories if side == "users" else int(self.item_ids)
        return own + len(self.columns_[side])

    def n_units(self) -> int:
        """Cells."""
        return self.trained_on.n_cells

    def loss(self, weights: dict[str, Any], units: np.ndarray, draws: Draws) -> Any:
        """Of some cells, each against the items of all of them."""
        import torch

        train = self.trained_on
        users, items = train.user_rows[units], train.indices[units].astype(np.int64)
        drawn = self.draw_items(draws.random, self.negatives)
        candidates, places = np.unique(np.concatenate([items, drawn]), return_inverse=True)
        x = self._users_in(torch, weights, users, items)
        y = self._items_in(torch, weights, candidates)
        against = torch.from_numpy(candidates)
        scores = x @ y.T + weights["items_bias"][against]
        if self.correction:
            scores = scores - torch.from_numpy(self._log_odds_of_draw(candidates, len(units)))
        told = torch.from_numpy(places[: len(units)].astype(np.int64))
        loss = torch.nn.functional.cross_entropy(scores, told)
        return loss + self.regularisation * ((x**2).sum(dim=1).mean() + (y**2).sum(dim=1).mean())

    def _log_odds_of_draw(self, items: np.ndarray, n: int) -> np.ndarray:
        """The log of how likely each item is to be among n of the cells, each of which comes once in an epoch, or the
        items drawn: float32."""
        train = self.trained_on
        taken = 1 - (1 - n / train.n_cells) ** train.item_counts[items]
        evenly = 1 - (1 - 1 / len(self.drawable)) ** self.negatives
        return np.log(1 - (1 - taken) * (1 - evenly)).astype(np.float32)

    def _users_in(self, torch: Any, weights: dict[str, Any], users: np.ndarray, told: np.ndarray) -> Any:
        parts = []
        if self.user_ids:
            parts.append(rows_in(torch, weights["user_ids"], users))
        if self.histories:
            bags, table = self._histories.some(users), weights["histories"]
            sums = bags.sums_in(torch, table)
            sums = sums - rows_in(torch, table, told)
            left = torch.from_numpy((1 / np.sqrt(np.maximum(np.diff(bags.indptr) - 1, 1))).astype(np.float32))
            parts.append(sums * left[:, None])
        return self._tower_in(torch, weights, "user", parts, self._sides[0], users)

    def _items_in(self, torch: Any, weights: dict[str, Any], items: np.ndarray) -> Any:
        parts = []
        if self.item_ids:
            parts.append(rows_in(torch, weights["item_ids"], items))
        return self._tower_in(torch, weights, "item", parts, self._sides[1], items)

    def _tower_in(
        self, torch: Any, weights: dict[str, Any], prefix: str, parts: list[Any], side: SideInputs, rows: np.ndarray
    ) -> Any:
        parts = [part[:, None] for part in parts]
        if side.encodings:
            parts.append(side.vectors_in(torch, weights[f"{prefix}_columns"], rows))
        return run_tower(torch, weights, prefix, torch.cat(parts, dim=1), self._length(prefix))

    def _length(self, prefix: str) -> float | None:
        """Of vectors, where they all have one: so products are cosines divided by the temperature."""
        if self.temperature is None:
            return None
        return 1 / self.temperature if prefix == "user" else 1.0

    def item_vectors(self) -> np.ndarray:
        """y with b behind."""
        n_items = len(self.trained_on.items)
        own = [self.weights_["item_ids"][:, None]] if self.item_ids else []
        parts = self._with_columns("item", own, self._sides[1], n_items)
        self.item_network_ = None
        return np.column_stack([self.item_network(parts=parts), self.weights_["items_bias"]])

    def _with_columns(self, prefix: str, parts: list[np.ndarray], side: SideInputs, n: int) -> np.ndarray:
        """All that a tower takes, side by side: float32 (n, n_parts, rank)."""
        if side.encodings:
            parts = [*parts, side.vectors(self.weights_[f"{prefix}_columns"])]
        return np.ascontiguousarray(np.concatenate(parts, axis=1), dtype=np.float32)

    def update(self) -> None:
        """All vectors anew, those of users with what is theirs alone."""
        train, self.network_ = self.trained_on, None
        self.item_factors_ = np.ascontiguousarray(self.item_vectors(), dtype=np.float32)
        users, n_users = self._sides[0], len(train.users)
        columns = users.vectors(self.weights_["user_columns"]) if users.encodings else None
        self.user_factors_ = np.empty((n_users, self.rank + 1), np.float32)
        for lo in range(0, n_users, USERS_AT_ONCE):
            rows = slice(lo, min(lo + USERS_AT_ONCE, n_users))
            bounds = train.indptr[rows.start : rows.stop + 1]
            own = self.weights_["user_ids"][rows] if self.user_ids else None
            items = train.indices[bounds[0] : bounds[-1]]
            here = None if columns is None else columns[rows]
            self.user_factors_[rows] = self._encoded(bounds - bounds[0], items, own, here)

    def _encoded(
        self, bounds: np.ndarray, items: np.ndarray, own: np.ndarray | None, columns: np.ndarray | None
    ) -> np.ndarray:
        """Vectors of users: float32 (n, rank + 1). own, columns: zeros where None."""
        n, parts = len(bounds) - 1, []
        if self.user_ids:
            parts.append((np.zeros((n, self.rank), np.float32) if own is None else own)[:, None])
        if self.histories:
            parts.append(Bags(bounds, items, spread_evenly(bounds)).sums(self.weights_["histories"])[:, None])
        n_columns = len(self.columns_["users"])
        if n_columns:
            parts.append(np.zeros((n, n_columns, self.rank), np.float32) if columns is None else columns)
        vectors = self.network(parts=np.ascontiguousarray(np.concatenate(parts, axis=1), dtype=np.float32))
        return with_ones(vectors)

    def encode(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Vectors of people of whom nothing but a history is known: float32 (n, rank + 1)."""
        return self._encoded(bounds, items, None, None)

    graph_inputs: ClassVar[dict[str, str]] = {
        "parts": "vectors side by side: of a user their own, zeros where there is none, the sum over the history of "
        "rows of `histories` over the root of how many, and for each column the sum of rows of its features; of an "
        "item its own, and those of its columns"
    }

    def graphs(self) -> dict[str, bytes]:
        """Both towers."""
        item = build_tower(self.weights_, "item", self._n_parts("items"), self.rank, self._length("item"))
        return super().graphs() | {"item": item}

    def parts(self) -> list[NetworkPart]:
        """Both towers, and where they meet."""
        sizes: dict[Side, tuple[int, bool, SideName]] = {
            "user": (len(self.user_factors_), self.user_ids, "users"),
            "item": (len(self.item_factors_), self.item_ids, "items"),
        }
        parts = []
        for side, (n, has_ids, plural) in sizes.items():
            if has_ids:
                parts.append(table_part(side, f"{side} id", f"{n:,} {plural}", n, self.rank))
            if side == "user" and self.histories:
                n_items = sizes["item"][0]
                parts.append(table_part(side, "history", f"{n_items:,} items, summed", n_items, self.rank))
            for each in self.columns_[plural]:
                parts.append(column_part(side, each.column, len(each.names), self.rank))
            layers = layer_parts(side, side, self.weights_, "layer")
            parts += layers or [NetworkPart(side, "vector", "the sum of all of these", self.rank, 0)]
        return [*parts, NetworkPart("both", "score", "product, and the item's bias", 1, sizes["item"][0])]

    def build_network(self) -> bytes:
        """The user's tower."""
        return build_tower(self.weights_, "user", self._n_parts("users"), self.rank, self._length("user"))

    @property
    def item_network(self) -> Network:
        """The item's tower, ready to run."""
        if self.item_network_ is None:
            n_parts = self._n_parts("items")
            self.item_network_ = Network(build_tower(self.weights_, "item", n_parts, self.rank, self._length("item")))
        return self.item_network_

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """What the tower makes of the history; where it sees none, the vector that puts these items above others."""
        if self.histories:
            return super().fold_in(item_rows, values)
        return self._fitted(self._encoded(np.zeros(2, np.int64), np.empty(0, np.int32), None, None)[0], item_rows)

    def _fitted(self, start: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        random = np.random.Generator(np.random.PCG64([self.seed, 77]))
        penalty = max(2 * self.regularisation * len(item_rows), 0.05)
        return fold_by_draws(self.item_factors_, start[:-1].astype(np.float64), item_rows, random, penalty)

    def column_names(self, side: SideName) -> list[str]:
        """Those of one table."""
        return [each.column for each in self.columns_[side]]

    def factors_of_rows(self, side: SideName, rows: pl.DataFrame) -> np.ndarray:
        """What the tower makes of their columns, nothing else being known; an item has the bias of one never taken."""
        inputs = inputs_again(self.columns_[side], rows)
        if side == "users":
            bounds = np.zeros(rows.height + 1, np.int64)
            columns = inputs.vectors(self.weights_["user_columns"])
            return self._encoded(bounds, np.empty(0, np.int32), None, columns)
        own = [np.zeros((rows.height, 1, self.rank), np.float32)] if self.item_ids else []
        vectors = self.item_network(parts=self._with_columns("item", own, inputs, rows.height))
        lowest = self.item_factors_[:, -1].min() if len(self.item_factors_) else 0.0
        return np.column_stack([vectors, np.full(rows.height, lowest, np.float32)])

    def fold_in_row(self, row: pl.DataFrame, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """What the tower makes of their columns and of what they touched."""
        columns = inputs_again(self.columns_["users"], row).vectors(self.weights_["user_columns"])
        bounds = np.array([0, len(item_rows)], np.int64)
        known = self._encoded(bounds, np.asarray(item_rows, np.int32), None, columns)[0]
        return known if self.histories else self._fitted(known, item_rows)

    def with_rows(self, side: SideName, train: InteractionMatrix, rows: pl.DataFrame) -> Model:
        """With their vectors behind the others."""
        extended, vectors = copy(self), self.factors_of_rows(side, rows)
        extended.train_ = train
        if side == "users":
            extended.user_factors_ = np.concatenate([self.user_factors_, vectors])
            return extended
        extended.item_factors_ = np.concatenate([self.item_factors_, vectors])
        if self.histories:
            nothing = np.zeros((rows.height, self.rank), np.float32)
            table = np.concatenate([self.weights_["histories"], nothing])
            extended.weights_ = self.weights_ | {"histories": table}
        return extended

    def log_odds(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
        """x_u . y_i + b_i."""
        return pair_products(self.user_factors_, self.item_factors_, users, items)

    def state(self) -> Arrays:
        """Vectors of both sides, what towers make them of, and how columns are read."""
        unkept = ("user_ids", "item_ids", "items_bias")
        kept = {name: array for name, array in self.weights_.items() if name not in unkept}
        return super().state() | kept | encodings_state(self.columns_)

    def layout(self, train: InteractionMatrix) -> Layout:
        """Of the rank; how wide the first layers are depends on the columns."""
        specs: dict[str, ArraySpec] = {
            "user_factors": ArraySpec("float32", (len(train.users), self.rank + 1)),
            "item_factors": ArraySpec("float32", (len(train.items), self.rank + 1)),
            "user_columns": ArraySpec("float32", ("features of users", self.rank)),
            "item_columns": ArraySpec("float32", ("features of items", self.rank)),
            **ENCODINGS_LAYOUT,
        }
        if self.histories:
            specs["histories"] = ArraySpec("float32", (len(train.items), self.rank))
        for prefix, layers in (("user", self.user_layers), ("item", self.item_layers)):
            if layers:
                specs |= layers_layout(prefix, [f"inputs of {prefix}s", *layers, self.rank])
        return specs

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load all. Raises DataError where the columns and the layers do not fit each other."""
        self.columns_ = read_encodings(arrays, self.family)
        unkept = ("user_factors", "item_factors", "encodings")
        self.weights_ = {name: array for name, array in arrays.items() if name not in unkept}
        self.network_ = self.item_network_ = None
        for prefix, side in (("user", "users"), ("item", "items")):
            name, wanted = f"{prefix}.0.weight", self._n_parts(side) * self.rank  # type: ignore[arg-type]
            if name in arrays and len(arrays[name]) != wanted:
                text = f"{self.family}: array {name!r} takes {len(arrays[name])} numbers, and {side} have {wanted}"
                raise DataError(text, where=name)
        return super().load_state(arrays, train)
