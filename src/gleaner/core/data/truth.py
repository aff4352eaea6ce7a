"""What a held-out part says is relevant."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.prepare import map_rows
from gleaner.core.data.rows import InteractionRows


@dataclass(frozen=True, eq=False)
class Truth:
    """What a held-out part says is relevant, in the rows of a training matrix (or of the histories shown).

    user_rows: int32 of shape (n,), users with at least one relevant item. indptr int64 of shape (n + 1,) and
    indices int32: their relevant items, ascending. The counts say what was left out and why.
    """

    user_rows: np.ndarray
    indptr: np.ndarray
    indices: np.ndarray
    unseen_users: int
    unseen_items: int
    known_pairs: int


def truth_of(part: InteractionRows, train: InteractionMatrix, shown: InteractionMatrix | None = None) -> Truth:
    """Distinct (user, item) pairs of a held-out part that a model of `train` could recommend.

    shown: for users who were held out whole, the histories they are judged by; user rows are then rows of `shown`.

    Left out and counted: users and items that training never saw, and pairs already in training (they are not
    candidates). The same rule for every contender.
    """
    pairs = part.frame.select("user", "item").unique().sort("user", "item")
    known = train if shown is None else shown
    user = map_rows(part.users, known.users)[pairs["user"].to_numpy()]
    item = map_rows(part.items, train.items)[pairs["item"].to_numpy()]
    unseen_users = int(pairs.filter(pl.Series(user < 0))["user"].n_unique())
    unseen_items = int(pairs.filter(pl.Series(item < 0))["item"].n_unique())
    both = (user >= 0) & (item >= 0)
    user, item = user[both].astype(np.int64), item[both].astype(np.int64)
    n_items = len(train.items)
    seen = np.repeat(np.arange(len(known.users), dtype=np.int64), np.diff(known.indptr)) * n_items + known.indices
    cells = np.unique(user * n_items + item)
    fresh = cells[~_within(cells, seen)]
    rows, counts = np.unique(fresh // n_items, return_counts=True)
    return Truth(
        user_rows=rows.astype(np.int32),
        indptr=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        indices=(fresh % n_items).astype(np.int32),
        unseen_users=unseen_users,
        unseen_items=unseen_items,
        known_pairs=len(cells) - len(fresh),
    )


def _within(cells: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """Which cells stand in `seen`; both ascending."""
    if not len(seen):
        return np.zeros(len(cells), dtype=bool)
    places = np.minimum(np.searchsorted(seen, cells), len(seen) - 1)
    return seen[places] == cells
