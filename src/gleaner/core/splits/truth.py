"""What a held-out part says is relevant."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.preparation.prepare import map_rows


@dataclass(frozen=True, eq=False)
class Truth:
    """What a held-out part says is relevant, in the rows of a training matrix (or of the histories shown).

    user_rows: int32 of shape (n,), users with at least one relevant item. indptr int64 of shape (n + 1,) and
    indices int32: their relevant items, ascending. gains: float32, what each is worth to graded metrics; None: 1 each.
    moments: datetime64[us], when each was first met in the part; None where rows have no times. context: for every user
    a row, the context of the first of their relevant interactions, in which their list is asked for; None where rows
    have none. candidates: bool (n_items,), what may be listed; None: everything that a user lacks. The counts say what
    was left out and why; not_relevant: pairs that a declared threshold did not let through.
    """

    user_rows: np.ndarray
    indptr: np.ndarray
    indices: np.ndarray
    unseen_users: int
    unseen_items: int
    known_pairs: int
    gains: np.ndarray | None = None
    not_relevant: int = 0
    moments: np.ndarray | None = None
    context: pl.DataFrame | None = None
    candidates: np.ndarray | None = None

    def worth(self) -> np.ndarray:
        """The gain of every relevant item: float32, shape of indices."""
        return np.ones(len(self.indices), dtype=np.float32) if self.gains is None else self.gains

    def n_candidates(self, known: InteractionMatrix) -> np.ndarray:
        """How many items each user may be given that they lack in `known`: int64 (n,)."""
        if self.candidates is None:
            return len(known.items) - np.diff(known.indptr)[self.user_rows]
        had = np.bincount(known.user_rows, self.candidates[known.indices], minlength=len(known.users))
        return (int(self.candidates.sum()) - had[self.user_rows]).astype(np.int64)

    def only(self, pairs: np.ndarray) -> Truth:
        """The pairs of a mask, bool of the shape of indices; users who have none of them go."""
        counts = np.add.reduceat(pairs, self.indptr[:-1]) if len(self.user_rows) else np.zeros(0, np.int64)
        kept = np.flatnonzero(counts)
        return replace(
            self,
            user_rows=self.user_rows[kept],
            indptr=np.concatenate([[0], np.cumsum(counts[kept])]).astype(np.int64),
            indices=self.indices[pairs],
            gains=None if self.gains is None else self.gains[pairs],
            moments=None if self.moments is None else self.moments[pairs],
            context=None if self.context is None else self.context[kept],
        )


@dataclass(frozen=True)
class Relevance:
    """Which held-out pairs are relevant: all, those of a value of at least so much, or above the user's own mean of
    what is known of them. A pair that was met more than once counts by its highest value."""

    at_least: float | None = None
    above_own_mean: bool = False


def truth_of(
    part: InteractionRows,
    train: InteractionMatrix,
    shown: InteractionMatrix | None = None,
    relevance: Relevance = Relevance(),
) -> Truth:
    """Distinct (user, item) pairs of a held-out part that a model of `train` could recommend.

    shown: for users who were held out whole, the histories they are judged by; user rows are then rows of `shown`.

    Left out and counted: users and items that training never saw, and pairs already in training (they are not
    candidates). The same rule for every contender.
    """
    dated = [pl.col("time").min()] if part.has("time") else []
    row = pl.col("row").sort_by("time").first() if part.has("time") else pl.col("row").first()
    rows = part.frame.with_row_index("row")
    pairs = rows.group_by("user", "item").agg(pl.col("measure").max(), *dated, row).sort("user", "item")
    known = train if shown is None else shown
    user = map_rows(part.users, known.users)[pairs["user"].to_numpy()]
    item = map_rows(part.items, train.items)[pairs["item"].to_numpy()]
    unseen_users = int(pairs.filter(pl.Series(user < 0))["user"].n_unique())
    unseen_items = int(pairs.filter(pl.Series(item < 0))["item"].n_unique())
    both = (user >= 0) & (item >= 0)
    measure = pairs["measure"].to_numpy()[both]
    n_items = len(train.items)
    cells = user[both].astype(np.int64) * n_items + item[both]
    order = np.argsort(cells)
    cells, measure = cells[order], measure[order]
    seen = np.repeat(np.arange(len(known.users), dtype=np.int64), np.diff(known.indptr)) * n_items + known.indices
    new = ~_within(cells, seen)
    liked = _relevant(cells // n_items, measure, known, relevance)
    fresh = cells[new & liked]
    users, counts = np.unique(fresh // n_items, return_counts=True)
    moments = pairs["time"].to_numpy()[both][order][new & liked] if dated else None
    first_met = pairs["row"].to_numpy()[both][order][new & liked]
    return Truth(
        user_rows=users.astype(np.int32),
        indptr=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        indices=(fresh % n_items).astype(np.int32),
        unseen_users=unseen_users,
        unseen_items=unseen_items,
        known_pairs=int((~new).sum()),
        gains=_gains(measure[new & liked], train),
        not_relevant=int((new & ~liked).sum()),
        moments=moments,
        context=_first_context(part, fresh // n_items, moments, first_met),
    )


def _first_context(
    part: InteractionRows, users: np.ndarray, moments: np.ndarray | None, rows: np.ndarray
) -> pl.DataFrame | None:
    """The context of the first pair of every user. users: of every pair, ascending; rows: its row of the part."""
    context = part.context
    if context is None:
        return None
    order = np.lexsort((rows, users) if moments is None else (rows, moments, users))
    _, firsts = np.unique(users[order], return_index=True)
    return context[rows[order][firsts]]


def _relevant(users: np.ndarray, measure: np.ndarray, known: InteractionMatrix, relevance: Relevance) -> np.ndarray:
    """Which pairs the declared threshold lets through; users: rows of `known`."""
    liked = np.ones(len(users), dtype=bool)
    if relevance.at_least is not None:
        liked &= measure >= relevance.at_least
    if relevance.above_own_mean:
        counts = np.diff(known.indptr)
        totals = np.bincount(known.user_rows, weights=known.values, minlength=len(counts))
        liked &= measure > totals[users] / np.maximum(counts[users], 1)
    return liked


def _gains(measure: np.ndarray, train: InteractionMatrix) -> np.ndarray:
    """What relevant pairs are worth: their weight, or on a declared scale 1 for the lowest value and so on up."""
    if train.scale is not None:
        measure = 1 + measure - train.scale[0]
    return np.maximum(measure, 0).astype(np.float32)


def _within(cells: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """Which cells stand in `seen`; both ascending."""
    if not len(seen):
        return np.zeros(len(cells), dtype=bool)
    places = np.minimum(np.searchsorted(seen, cells), len(seen) - 1)
    return seen[places] == cells
