"""What users with the same value of a column take more than others: facts of a pair beside its members' scores."""

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
class PeerLifts:
    """For each of several columns of the user table and a pair: the mean over the user's values v of

        log((n_vi + PRIOR p_i) / ((n_v + PRIOR) p_i)),

    n_v users with the value, n_vi of them who have item i, p_i the share of all users who have it. Arrays as in
    `kernels.second_stage`, those of the columns one after the other: user u of column c is row c n_users + u.
    """

    n_users: int
    indptr: np.ndarray
    groups: np.ndarray
    bases: np.ndarray
    bounds: np.ndarray
    listed: np.ndarray
    lifts: np.ndarray

    @classmethod
    def of(cls, columns: list[Column], train: InteractionMatrix) -> PeerLifts:
        """Count the users of a training matrix."""
        n_users, n_items = train.shape
        members = [_groups_of(each) for each in columns]
        cells = (np.ones(train.n_cells), train.indices, train.indptr)
        has = sparse.csr_array(cells, shape=train.shape)
        empty = sparse.csr_array((0, n_items))
        counts = sparse.csr_array(sparse.vstack([empty, *(each.T @ has for each in members)], format="csr"))
        counts.sort_indices()
        sizes = np.concatenate([np.empty(0), *(np.bincount(each.indices, minlength=each.shape[1]) for each in members)])
        shares = np.bincount(train.indices, minlength=n_items)[counts.indices] / max(1, n_users)
        owner = np.repeat(np.arange(len(sizes)), np.diff(counts.indptr))
        lifts = np.log((counts.data + PRIOR * shares) / ((sizes[owner] + PRIOR) * shares))
        starts = np.cumsum([0, *(each.shape[1] for each in members)])
        lengths = [np.diff(each.indptr) for each in members]
        groups = [each.indices + start for each, start in zip(members, starts, strict=False)]
        return cls(
            n_users,
            np.concatenate([[0], np.cumsum(np.concatenate([np.empty(0), *lengths]))]).astype(np.int64),
            np.concatenate([np.empty(0), *groups]).astype(np.int32),
            np.log(PRIOR / (sizes + PRIOR)),
            counts.indptr.astype(np.int64),
            counts.indices.astype(np.int32),
            lifts.astype(np.float32),
        )

    @property
    def n_columns(self) -> int:
        """How many columns there are."""
        return (len(self.indptr) - 1) // self.n_users if self.n_users else 0

    def of_pairs(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The lifts of each pair: float32 (n, n_columns)."""
        out = np.empty((self.n_columns, len(users)), np.float32)
        for column, values in enumerate(out):
            rows = users.astype(np.int64) + column * self.n_users
            parts: Any = (rows, items.astype(np.int32), *self._parts(), values)
            group_lift(*parts)
        return out.T

    def of_nobody(self) -> PeerLifts:
        """The same for one person of whom no column is known."""
        return PeerLifts(1, np.zeros(self.n_columns + 1, np.int64), np.empty(0, np.int32), *self._parts()[2:])

    def _parts(self) -> Any:
        return tuple(getattr(self, name) for name in NAMES)

    def state(self) -> Arrays:
        """The arrays."""
        parts = {f"peers.{name}": part for name, part in zip(NAMES, self._parts(), strict=True)}
        return parts | {"peers.n_groups": np.array([max(1, len(self.bases))], np.int64)}

    @staticmethod
    def layout(n_items: int) -> Layout:
        """What the arrays must be."""
        return {
            "peers.n_groups": ArraySpec("int64", (1,), low=1, below=MOST_GROUPS),
            "peers.indptr": ArraySpec("int64", ("peers.rows",), offsets_of="peers.groups"),
            "peers.groups": ArraySpec("int32", ("peers.memberships",), low=0, below="peers.n_groups"),
            "peers.bases": ArraySpec("float64", ("peers.in groups",)),
            "peers.bounds": ArraySpec("int64", ("peers.ends",), offsets_of="peers.listed"),
            "peers.listed": ArraySpec("int32", ("peers.entries",), low=0, below=n_items),
            "peers.lifts": ArraySpec("float32", ("peers.entries",)),
        }

    @classmethod
    def load_state(cls, arrays: Arrays, n_users: int) -> PeerLifts:
        """Load them from a state whose layout was checked. Raises DataError where they do not fit each other."""
        lifts = cls(n_users, *(arrays[f"peers.{name}"] for name in NAMES))
        n_groups = len(lifts.bases)
        if len(lifts.bounds) != n_groups + 1 or (len(lifts.groups) and lifts.groups.max() >= n_groups):
            text = "array 'peers.bounds' must hold one more entry than 'peers.bases', and users no other groups"
            raise DataError(text, where="peers.bounds")
        if len(lifts.indptr) != lifts.n_columns * n_users + 1:
            raise DataError("array 'peers.indptr' must hold every user once for each column", where="peers.indptr")
        return lifts


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
