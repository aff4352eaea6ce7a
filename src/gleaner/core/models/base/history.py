"""Models whose score is a sum over the history: weighed history times item-item weights."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import Self

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.kernels import neighbours as kernels
from gleaner.core.models.base.capabilities import (
    Explains,
    ExplainsHistory,
    FoldsIn,
    FoldsInItems,
    HasItemLikeness,
    Terms,
)
from gleaner.core.models.base.likeness import Cells
from gleaner.core.models.base.protocol import Model, learned, no_array


@dataclass(repr=False)
class HistoryModel(Model, FoldsIn, Explains, ExplainsHistory, HasItemLikeness):
    """score(u, i) = sum over j in the history of u of x_uj W_ji, x the weighed values.

    A subclass learns W and weighs values.
    """

    train_: InteractionMatrix | None = learned(lambda: None)
    x_: np.ndarray = learned(no_array)

    @abstractmethod
    def weigh(self, values: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        """x of one history: float32."""

    def weigh_training(self, train: InteractionMatrix) -> np.ndarray:
        """x of all training cells: float32 (n_cells,)."""
        return self.weigh(train.values, train.indices)

    @abstractmethod
    def weights_to(self, item_row: int) -> np.ndarray:
        """Column i of W, float32 (n_items,): what each item adds to the score of one."""

    @abstractmethod
    def times_weights(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Histories, as CSR of weighed values, times W: float32 (n, n_items)."""

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Sums over each user's training items."""
        train = self.trained_on
        lengths = np.diff(train.indptr)[user_rows]
        bounds = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        # the places of all histories, one after the other: starts repeated, plus a count within each
        places = np.repeat(train.indptr[user_rows] - bounds[:-1], lengths) + np.arange(bounds[-1])
        return self.times_weights(bounds, train.indices[places], self.x_[places])

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The history itself: float64 (2, n), rows then values."""
        return np.vstack([item_rows, values]).astype(np.float64)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Sums over the given items."""
        items = representation[0].astype(np.int32)
        values = self.weigh(representation[1].astype(np.float32), items)
        return self.times_weights(np.array([0, len(items)], dtype=np.int64), items, values)[0]

    def item_scores(self, item_rows: np.ndarray) -> np.ndarray:
        """Histories times the columns of W."""
        return np.stack([self.times_column(self.weights_to(int(row))) for row in item_rows])

    def times_column(self, column: np.ndarray) -> np.ndarray:
        """Every training history times one column of W: float32 (n_users,)."""
        train = self.trained_on
        added = self.x_.astype(np.float64) * column[train.indices]
        return np.bincount(train.user_rows, added, minlength=len(train.users)).astype(np.float32)

    def item_likeness(self, item_row: int) -> tuple[np.ndarray, str]:
        """What each item adds to the score of this one."""
        return self.weights_to(item_row), f"weights of {self.family}"

    def terms(self, user_row: int, item_row: int) -> Terms:
        """x_uj W_ji over the history, those that add nothing left out."""
        train = self.trained_on
        lo, hi = train.indptr[user_row], train.indptr[user_row + 1]
        return self._terms(train.indices[lo:hi], self.x_[lo:hi].astype(np.float64), item_row)

    def terms_of_history(self, item_rows: np.ndarray, values: np.ndarray, item_row: int) -> Terms:
        """Return x_j W_ji for each item j of a history."""
        x = self.weigh(values.astype(np.float32), item_rows.astype(np.int32)).astype(np.float64)
        return self._terms(item_rows, x, item_row)

    def _terms(self, items: np.ndarray, x: np.ndarray, item_row: int) -> Terms:
        weight = self.weights_to(item_row)[items].astype(np.float64)
        kept = weight != 0
        columns = {"value": x, "weight": weight} | self.more_terms(items, item_row) | {"adds": x * weight}
        return Terms("item", items[kept], {name: part[kept] for name, part in columns.items()}, "value * weight")

    def more_terms(self, items: np.ndarray, item_row: int) -> dict[str, np.ndarray]:
        """Further columns for `terms`."""
        return {}

    def keep_training(self, train: InteractionMatrix) -> Self:
        """Hold on to the histories, weighed."""
        self.train_, self.x_ = train, self.weigh_training(train)
        return self


@dataclass(repr=False)
class LearnedHistoryModel(HistoryModel, FoldsInItems):
    """The same where W is learned from who has what, so that one more item has a column too."""

    @abstractmethod
    def column_of(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Column of W for an item not seen in training, float32 (n_items,)."""

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The item's column of W."""
        return self.column_of(np.asarray(user_rows, dtype=np.int64), np.asarray(values, dtype=np.float32))

    def scores_of_item(self, representation: np.ndarray) -> np.ndarray:
        """Every history times the column."""
        return self.times_column(representation)


def sparse_times(lists: Cells, n_items: int, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Histories times sparse W, given by rows: lists[j] holds every i with a weight from j."""
    out = np.zeros((len(bounds) - 1, n_items), dtype=np.float32)
    kernels.add_scores(bounds, items, values.astype(np.float32, copy=False), *lists, out)
    return out
