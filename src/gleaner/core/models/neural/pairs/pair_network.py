"""How ranking networks learn: a user, a context and an item at a time."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import Features, chosen
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.side_inputs import SideInputs
from gleaner.core.models.neural.pairs.crosses import Crosses, crossed_features, table_of
from gleaner.core.models.neural.pairs.pair_inputs import PairInputs
from gleaner.core.models.neural.pairs.pair_scores import PairScores


@dataclass(repr=False)
class PairNetwork(PairScores):
    """The same, fitted: what a step looks at is put together from the cells of its batch."""

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Some eight vectors of a pair, through the layers, forth and back."""
        widths = [8 * params["rank"], *params["layers"], 1]
        layers = sum(a * b for a, b in itertools.pairwise(widths))
        pairs = cells * (1.0 + params.get("negatives", 0))
        work = params["iterations"] * (pairs * (layers + 400.0) + cells * 60.0 * params["rank"])
        tables = 16.0 * params["rank"] * (shape[0] + 2 * shape[1])
        return Cost(work, 16.0 * layers + tables + 8.0 * cells)

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of both tables, and of the interaction."""
        users, items = self._chosen(features)
        return {
            "item_columns": [each.name for each in items],
            "user_columns": [each.name for each in users],
            "context_columns": self.context_of(features.context, self.context_columns),
        }

    def _chosen(self, features: Features) -> Any:
        return (
            chosen(features.users, self.user_columns, "user_columns"),
            chosen(features.items, self.item_columns, "item_columns"),
        )

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Columns of both sides and of the interaction, and histories."""
        users, items = self._chosen(features or Features())
        sides = SideInputs.of(users, train.shape[0]), SideInputs.of(items, train.shape[1])
        self.columns_ = {"users": sides[0].encodings, "items": sides[1].encodings}
        frame = pl.DataFrame() if train.context is None else train.context
        self.encoder_ = ContextEncoder.fit(frame, self.context_of(frame.columns, self.context_columns))
        self._inputs = PairInputs(train, *sides, self.encoder_, self.amounts_of(train.indices, train.values))
        self.head_ = self.new_head()

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """Tables, the head's, and of crosses none yet."""
        weights = self._inputs.initial_tables(random, self.rank, self.init_scale)
        weights |= self.head.initial_weights(random)
        if self.crossing:
            self._crossed = tuple(crossed_features(side) for side in (self._inputs.users, self._inputs.items))
            n_left = len(self._crossed[0]) + sum(self.encoder_.n_features)
            weights["crosses"] = np.zeros((n_left, len(self._crossed[1])), np.float32)
        return weights

    def n_units(self) -> int:
        """Cells."""
        return self.trained_on.n_cells

    def told_in(self, torch: Any, weights: dict[str, Any], cells: np.ndarray, items: np.ndarray) -> tuple[Any, Any]:
        """The network's numbers, less the base, of the users and contexts of cells with some items, as many for each of
        them: items (n, m); torch (n, m). And the mean of the squares of the vectors that were looked at."""
        n, m = items.shape
        left = self._inputs.left_in(torch, weights, cells)
        different, places = np.unique(items, return_inverse=True)
        right = self._inputs.right_in(torch, weights, different).index_select(0, torch.from_numpy(places.ravel()))
        out = self.head.run(torch, weights, left, right.reshape(n, m, *right.shape[1:]))
        if self.crossing:
            out = out + self._crossed_in(torch, weights["crosses"], cells, items)
        return out, (left**2).sum() / n + (right**2).sum() / (n * m)

    def _crossed_in(self, torch: Any, crosses: Any, cells: np.ndarray, items: np.ndarray) -> Any:
        users, of_items = self._tables
        codes, n_context = self._inputs.codes[cells], sum(self.encoder_.n_features)
        context = np.zeros((len(cells), n_context), np.float32)
        np.put_along_axis(context, codes.astype(np.int64), 1.0, axis=1)
        asking = np.concatenate([users[self.trained_on.user_rows[cells]].toarray(), context], axis=1)
        has = torch.from_numpy(of_items[items.ravel()].toarray()).reshape(*items.shape, -1)
        return (has @ (torch.from_numpy(asking) @ crosses)[:, :, None])[:, :, 0]

    @cached_property
    def _tables(self) -> Any:
        return tuple(
            table_of(side, features)
            for side, features in zip((self._inputs.users, self._inputs.items), self._crossed, strict=True)
        )

    def end(self) -> None:
        """Let go of what only steps need."""
        super().end()
        del self._inputs
        for name in ("_tables", "_crossed"):
            self.__dict__.pop(name, None)

    def update(self) -> None:
        """Vectors of all users and items, and what items bring to the head on their own."""
        train, inputs, weights = self.trained_on, self._inputs, self.weights_
        self.users_ = np.empty((len(train.users), 2 + len(inputs.users.encodings), self.rank + 1), np.float32)
        self.users_[:, 0] = weights["user_ids"]
        self.users_[:, 1] = self._history_sums(train.indptr, train.indices, inputs.amounts)
        if inputs.users.encodings:
            self.users_[:, 2:] = inputs.users.vectors(weights["user_columns"])
        self.right_ = self._right_of(weights["item_ids"], inputs.items)
        self.head.take(weights, self.right_)
        self.crossed_ = np.zeros((len(train.users), 0), np.float32)
        if self.crossing:
            self.crosses_ = Crosses(self._crossed[0], weights["crosses"], self._tables[1].toarray())
            self.crossed_ = self.crosses_.of_users(inputs.users)
