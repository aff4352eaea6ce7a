"""The training matrix: users by items, only what was observed."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.ids import IdMap
from gleaner.core.errors import DataError


@dataclass(frozen=True, eq=False)
class InteractionMatrix:
    """Observed cells in CSR form. A cell that was not observed is absent; an observed zero is stored as zero.

    indptr: int64 of shape (n_users + 1,). indices: int32 item rows, ascending within a user.
    values: float32, one per observed cell. users, items: the ids of rows and columns.
    scale: lowest and highest possible value where values are the users' own judgement (explicit feedback), else None.
    days: float64, one per cell, the moment of its last row in days since 1970, NaN where it had none; or None.
    kinds: uint64, one per cell, bit b set where a row of kind kind_names[b] went into it; or None.
    context: a row per cell, the columns of the interaction that its last row had; or None.
    """

    indptr: np.ndarray
    indices: np.ndarray
    values: np.ndarray
    users: IdMap
    items: IdMap
    scale: tuple[float, float] | None = None
    days: np.ndarray | None = None
    kinds: np.ndarray | None = None
    kind_names: tuple[str, ...] = ()
    context: pl.DataFrame | None = None

    @property
    def shape(self) -> tuple[int, int]:
        """(n_users, n_items)."""
        return len(self.users), len(self.items)

    @cached_property
    def user_rows(self) -> np.ndarray:
        """The user row of every cell: int32 (n_cells,)."""
        return np.repeat(np.arange(len(self.users), dtype=np.int32), np.diff(self.indptr))

    @cached_property
    def item_counts(self) -> np.ndarray:
        """How many users have each item: int64 (n_items,)."""
        return np.bincount(self.indices, minlength=len(self.items))

    @property
    def n_cells(self) -> int:
        """Number of observed cells."""
        return len(self.indices)

    def history(self, user_row: int) -> tuple[np.ndarray, np.ndarray]:
        """Item rows and values of one user."""
        lo, hi = self.indptr[user_row], self.indptr[user_row + 1]
        return self.indices[lo:hi], self.values[lo:hi]

    def history_in_order(self, user_row: int) -> tuple[np.ndarray, np.ndarray]:
        """The same by time, those without one first; as they lie where there are no times."""
        items, values = self.history(user_row)
        if self.days is None:
            return items, values
        days = self.days[self.indptr[user_row] : self.indptr[user_row + 1]]
        order = np.argsort(np.where(np.isnan(days), -np.inf, days), kind="stable")
        return items[order], values[order]

    @cached_property
    def by_item(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """The transpose in CSR form: indptr of shape (n_items + 1,), user rows, values."""
        whole = sparse.csr_array((self.values, self.indices, self.indptr), shape=self.shape)
        turned = whole.tocsc()
        return (
            turned.indptr.astype(np.int64),
            turned.indices.astype(np.int32),
            turned.data.astype(np.float32, copy=False),
        )

    def only(self, kept: np.ndarray) -> InteractionMatrix:
        """The same users and items with some cells: `kept` is a mask, bool (n_cells,)."""
        more = self._per_cell(np.flatnonzero(kept))
        return InteractionMatrix.from_sorted(
            self.user_rows[kept], self.indices[kept], self.values[kept], self.users, self.items,
            scale=self.scale, kind_names=self.kind_names, **more,
        )  # fmt: skip

    def onto(self, users: IdMap, items: IdMap) -> InteractionMatrix:
        """The cells whose user and item stand among others' rows, in those rows; who has no cell has an empty row."""
        rows = users.rows(self.users.ids.to_pylist())[self.user_rows]
        columns = items.rows(self.items.ids.to_pylist())[self.indices]
        kept = (rows >= 0) & (columns >= 0)
        order = np.lexsort((columns[kept], rows[kept]))
        more = self._per_cell(np.flatnonzero(kept)[order])
        return InteractionMatrix.from_sorted(
            rows[kept][order], columns[kept][order], self.values[kept][order], users, items,
            scale=self.scale, kind_names=self.kind_names, **more,
        )  # fmt: skip

    def _per_cell(self, places: np.ndarray) -> dict[str, Any]:
        """What is kept of each cell beside its value, for some cells."""
        return {
            name: None if (per_cell := getattr(self, name)) is None else per_cell[places]
            for name in ("days", "kinds", "context")
        }

    @classmethod
    def from_sorted(
        cls,
        user_rows: np.ndarray,
        item_rows: np.ndarray,
        values: np.ndarray,
        users: IdMap,
        items: IdMap,
        **more: Any,
    ) -> InteractionMatrix:
        """Build from distinct cells ordered by user row, then item row; `more` are scale, days, kinds, kind_names,
        context.

        Raises DataError on a value not finite.
        """
        values = _finite(values, user_rows, item_rows, users, items)
        counts = np.bincount(user_rows, minlength=len(users))
        indptr = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        return cls(indptr, np.ascontiguousarray(item_rows, dtype=np.int32), values, users, items, **more)

    @classmethod
    def from_cells(
        cls, user_rows: np.ndarray, item_rows: np.ndarray, values: np.ndarray, users: IdMap, items: IdMap
    ) -> InteractionMatrix:
        """Build from parallel arrays, one entry per cell.

        Raises DataError when a cell comes twice (repeats must be merged by a declared rule first) or a value is
        NaN or infinite (a missing value must be dropped by a declared rule, never read as a number).
        """
        values = _finite(values, user_rows, item_rows, users, items)
        # int32 positions suffice below 2**31 cells and halve the memory of the sort
        order_in = sparse.coo_array(
            (np.arange(len(values), dtype=np.int64), (user_rows, item_rows)), shape=(len(users), len(items))
        )
        table = order_in.tocsr()
        if table.nnz != len(values):
            raise DataError("a (user, item) pair comes more than once; choose how repeats are merged", where="merge")
        table.sort_indices()
        return cls(
            indptr=table.indptr.astype(np.int64),
            indices=table.indices.astype(np.int32),
            values=values[table.data],
            users=users,
            items=items,
        )


def _finite(values: np.ndarray, user_rows: np.ndarray, item_rows: np.ndarray, users: IdMap, items: IdMap) -> np.ndarray:
    values = np.asarray(values, dtype=np.float32)
    if not np.isfinite(values).all():
        at = int(np.flatnonzero(~np.isfinite(values))[0])
        raise DataError(
            f"value {values[at]} of user {users.id(int(user_rows[at]))!r} and item "
            f"{items.id(int(item_rows[at]))!r} is not a finite number",
            where="value",
        )
    return values
