"""What those with the same value of a column take more than others: facts of a pair beside its members' scores."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Column
from gleaner.core.errors import DataError
from gleaner.core.kernels.second_stage import group_lift
from gleaner.core.models.base.protocol import Arrays

PRIOR = 20.0
"""So many users of the overall share are added to every group."""

BINS = 8
"""Parts of about equal size that numbers and dates are cut into."""

MOST_GROUPS = 1_000_000
ROLES = ("category", "categories", "flag", "number", "date")
NO_EDGES = np.empty(0)
NAMES = ("indptr", "groups", "bases", "bounds", "listed", "lifts")


@dataclass(frozen=True, eq=False)
class Lifts:
    """For each of several columns and a pair of a row and an item: the mean over the row's values v of

        log((n_vi + PRIOR p_i) / ((n_v + PRIOR) p_i)),

    n_v rows with the value, n_vi of them that have item i, p_i the share of all rows that have it. Rows are users, or
    cells with their context. Arrays as in `kernels.second_stage`, those of the columns one after the other: row r of
    column c is row c n_rows + r.
    """

    n_rows: int
    indptr: np.ndarray
    groups: np.ndarray
    bases: np.ndarray
    bounds: np.ndarray
    listed: np.ndarray
    lifts: np.ndarray

    @classmethod
    def counted(cls, members: list[sparse.csr_array], has: sparse.csr_array) -> Lifts:
        """members: of each column, rows by the groups that they are in. has: float (n_rows, n_items), 1 for an item of
        a row."""
        n_rows, n_items = has.shape
        empty = sparse.csr_array((0, n_items))
        counts = sparse.csr_array(sparse.vstack([empty, *(each.T @ has for each in members)], format="csr"))
        counts.sort_indices()
        sizes = np.concatenate([np.empty(0), *(np.bincount(each.indices, minlength=each.shape[1]) for each in members)])
        shares = np.bincount(has.indices, minlength=n_items)[counts.indices] / max(1, n_rows)
        owner = np.repeat(np.arange(len(sizes)), np.diff(counts.indptr))
        lifts = np.log((counts.data + PRIOR * shares) / ((sizes[owner] + PRIOR) * shares))
        return cls(
            n_rows,
            *_memberships(members),
            np.log(PRIOR / (sizes + PRIOR)),
            counts.indptr.astype(np.int64),
            counts.indices.astype(np.int32),
            lifts.astype(np.float32),
        )

    @classmethod
    def of_users(cls, columns: list[Column], train: InteractionMatrix) -> Lifts:
        """Users of a training matrix by columns of their table."""
        cells = (np.ones(train.n_cells), train.indices, train.indptr)
        return cls.counted([_groups_of(each) for each in columns], sparse.csr_array(cells, shape=train.shape))

    @property
    def n_columns(self) -> int:
        """How many columns there are."""
        return (len(self.indptr) - 1) // self.n_rows if self.n_rows else 0

    def of_pairs(self, rows: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The lifts of each pair: float32 (n, n_columns)."""
        out = np.empty((self.n_columns, len(rows)), np.float32)
        for column, values in enumerate(out):
            at = rows.astype(np.int64) + column * self.n_rows
            parts: Any = (at, items.astype(np.int32), *self._parts(), values)
            group_lift(*parts)
        return out.T

    def of_rows(self, members: list[sparse.csr_array]) -> Lifts:
        """The same counts for other rows."""
        return Lifts(members[0].shape[0] if members else 0, *_memberships(members), *self._parts()[2:])

    def of_nobody(self) -> Lifts:
        """The same for one row of which no column is known."""
        return Lifts(1, np.zeros(self.n_columns + 1, np.int64), np.empty(0, np.int32), *self._parts()[2:])

    def _parts(self) -> Any:
        return tuple(getattr(self, name) for name in NAMES)

    def state(self, of: str) -> Arrays:
        """The arrays, each with what they are of before its name."""
        parts = {f"{of}.{name}": part for name, part in zip(NAMES, self._parts(), strict=True)}
        return parts | {f"{of}.n_groups": np.array([max(1, len(self.bases))], np.int64)}

    @staticmethod
    def layout(of: str, n_items: int) -> Layout:
        """What the arrays must be."""
        return {
            f"{of}.n_groups": ArraySpec("int64", (1,), low=1, below=MOST_GROUPS),
            f"{of}.indptr": ArraySpec("int64", (f"{of}.rows",), offsets_of=f"{of}.groups"),
            f"{of}.groups": ArraySpec("int32", (f"{of}.memberships",), low=0, below=f"{of}.n_groups"),
            f"{of}.bases": ArraySpec("float64", (f"{of}.in groups",)),
            f"{of}.bounds": ArraySpec("int64", (f"{of}.ends",), offsets_of=f"{of}.listed"),
            f"{of}.listed": ArraySpec("int32", (f"{of}.entries",), low=0, below=n_items),
            f"{of}.lifts": ArraySpec("float32", (f"{of}.entries",)),
        }

    @classmethod
    def load_state(cls, of: str, arrays: Arrays, n_rows: int) -> Lifts:
        """Load them from a state whose layout was checked. Raises DataError where they do not fit each other."""
        lifts = cls(n_rows, *(arrays[f"{of}.{name}"] for name in NAMES))
        n_groups = len(lifts.bases)
        if len(lifts.bounds) != n_groups + 1 or (len(lifts.groups) and lifts.groups.max() >= n_groups):
            text = f"array '{of}.bounds' must hold one more entry than '{of}.bases', and rows no other groups"
            raise DataError(text, where=f"{of}.bounds")
        if len(lifts.indptr) != lifts.n_columns * n_rows + 1:
            raise DataError(f"array '{of}.indptr' must hold every row once for each column", where=f"{of}.indptr")
        return lifts

    @staticmethod
    def none(of: str) -> Arrays:
        """The state of no columns."""
        ends = np.zeros(1, np.int64)
        whole, single = np.empty(0, np.int32), np.empty(0, np.float32)
        return Lifts(0, ends, whole, np.empty(0), ends, whole, single).state(of)


def _memberships(members: list[sparse.csr_array]) -> tuple[np.ndarray, np.ndarray]:
    """Of all columns one after the other: offsets by row, and groups."""
    starts = np.cumsum([0, *(each.shape[1] for each in members)])
    lengths = [np.diff(each.indptr) for each in members]
    groups = [each.indices + start for each, start in zip(members, starts, strict=False)]
    indptr = np.concatenate([[0], np.cumsum(np.concatenate([np.empty(0), *lengths]))]).astype(np.int64)
    return indptr, np.concatenate([np.empty(0), *groups]).astype(np.int32)


def _groups_of(column: Column) -> sparse.csr_array:
    """Users by the groups they are in: a group for each value, or for each part of a range of numbers."""
    if column.role not in ("number", "date"):
        groups = sparse.csr_array(column.matrix != 0)
    else:
        numbers = column.matrix[:, [0]].toarray()[:, 0]
        missing = (
            column.matrix[:, [1]].toarray()[:, 0] > 0 if column.matrix.shape[1] > 1 else np.zeros(len(numbers), bool)
        )
        edges = np.unique(np.quantile(numbers[~missing], np.arange(1, BINS) / BINS)) if not missing.all() else NO_EDGES
        known = np.flatnonzero(~missing)
        cells = (np.ones(len(known), bool), (known, np.searchsorted(edges, numbers[known], side="right")))
        groups = sparse.csr_array(cells, shape=(len(numbers), len(edges) + 1))
    groups.sort_indices()
    return groups
