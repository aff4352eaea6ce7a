"""Cells of a data version that a model's training did not use: pruned users and items, held-out and filtered rows."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from weakref import WeakKeyDictionary

import numpy as np

from gleaner.core.data.ids import IdMap


@dataclass(frozen=True, eq=False)
class UntrainedCells:
    """Cells by user, in CSR form, that a training matrix lacks.

    indptr: int64 (n_users + 1,). indices: int32 rows of `items`, ascending within a user. values: float32, what
    training would have made of the cell; NaN where the preparation drops its rows, so that the user has the item and
    nothing more. days: float64, the moment of the last row in days since 1970, NaN where it had none.
    """

    users: IdMap
    items: IdMap
    indptr: np.ndarray
    indices: np.ndarray
    values: np.ndarray
    days: np.ndarray

    @classmethod
    def empty(cls) -> UntrainedCells:
        """Return cells of nobody."""
        indices, values, days = (np.empty(0, dtype=dtype) for dtype in (np.int32, np.float32, np.float64))
        return cls(IdMap([]), IdMap([]), np.zeros(1, np.int64), indices, values, days)

    @classmethod
    def from_cells(
        cls, user: np.ndarray, item: np.ndarray, value: np.ndarray, days: np.ndarray, users: IdMap, items: IdMap
    ) -> UntrainedCells:
        """Arrange distinct cells, one entry each: codes of `users` and `items`. Users without a cell are dropped."""
        order = np.lexsort((item, user))
        present, starts = np.unique(user[order], return_index=True)
        indptr = np.append(starts, len(order)).astype(np.int64)
        return cls(
            users.subset(present),
            items,
            indptr,
            item[order].astype(np.int32),
            value[order].astype(np.float32),
            days[order].astype(np.float64),
        )

    @property
    def n_cells(self) -> int:
        """Number of cells."""
        return len(self.indices)

    def users_with(self, item: str) -> list[str]:
        """Return the users who have an item."""
        row = self.items.row(item)
        if row is None:
            return []
        cells = np.flatnonzero(self.indices == row)
        return self.users.take(np.searchsorted(self.indptr, cells, side="right") - 1)

    def range_of(self, user: str) -> slice | None:
        """Return where the cells of a user are, or None if there are none."""
        row = self.users.row(user)
        return None if row is None else slice(int(self.indptr[row]), int(self.indptr[row + 1]))


@dataclass(frozen=True, eq=False)
class UntrainedHistory:
    """Untrained cells of one user in the items of one model: rows ascending (int32), values (float32), days.

    source: the cells that it is of, so that a cached history is known to be out of date.
    """

    rows: np.ndarray
    values: np.ndarray
    days: np.ndarray
    source: UntrainedCells | None = None

    @cached_property
    def is_counted(self) -> np.ndarray:
        """Mask of the cells that a fold-in uses: bool."""
        return ~np.isnan(self.values)

    @property
    def counted(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Rows, values and days of the cells that a fold-in uses."""
        return self.rows[self.is_counted], self.values[self.is_counted], self.days[self.is_counted]


NO_HISTORY = UntrainedHistory(np.empty(0, np.int32), np.empty(0, np.float32), np.empty(0, np.float64))


class UntrainedLookup:
    """Untrained cells of one model, loaded on first use and shared by every thread."""

    def __init__(self, load: Callable[[], UntrainedCells] = UntrainedCells.empty) -> None:
        self._load = load
        self._cells: UntrainedCells | None = None
        self._rows_of: WeakKeyDictionary[IdMap, tuple[UntrainedCells, np.ndarray]] = WeakKeyDictionary()
        self._lock = threading.Lock()

    def cells(self) -> UntrainedCells:
        """Return the cells. The first call loads them."""
        cells = self._cells
        if cells is None:
            with self._lock:
                cells = self._cells = self._cells or self._load()
        return cells

    def clear(self) -> None:
        """Drop the cells, so that the next use loads them again."""
        with self._lock:
            self._cells = None

    def history(self, user: str | None, items: IdMap) -> UntrainedHistory:
        """Return the cells of a user in the rows of `items`, ascending. Items that are not in it are skipped."""
        cells = self.cells()
        found = None if user is None else cells.range_of(user)
        if found is None:
            return NO_HISTORY
        rows = self._mapped(cells, items)[cells.indices[found]]
        order = np.argsort(rows, kind="stable")
        order = order[rows[order] >= 0]
        return UntrainedHistory(rows[order], cells.values[found][order], cells.days[found][order], cells)

    def _mapped(self, cells: UntrainedCells, items: IdMap) -> np.ndarray:
        """Return the row in `items` of every item of the cells, -1 where it has none."""
        mapped = self._rows_of.get(items)
        if mapped is None or mapped[0] is not cells:
            mapped = self._rows_of[items] = cells, items.rows(cells.items.ids.to_pylist())
        return mapped[1]


NOTHING_UNTRAINED = UntrainedLookup()
"""For a model whose data is not here."""
