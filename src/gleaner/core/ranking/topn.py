"""The n best items for users, exactly, with some left out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import require_range
from gleaner.core.kernels import topn as kernels
from gleaner.core.models.protocol import Model
from gleaner.core.parallel import Progress, default_threads, even_ranges, run_ranges

BLOCK_SCORES = 2_000_000
"""Scores held by one thread at a time: 8 MB, so that a block is still in cache when it is scanned."""


@dataclass(frozen=True, eq=False)
class Lists:
    """One list per user. items: int32 (n_users, n), -1 behind the last. scores: float32, -inf there."""

    items: np.ndarray
    scores: np.ndarray


def top_n(
    model: Model,
    user_rows: np.ndarray,
    n: int,
    tie_order: np.ndarray,
    *,
    exclude: InteractionMatrix | None = None,
    allowed: np.ndarray | None = None,
    progress: Progress | None = None,
) -> Lists:
    """The n best items of each user over the full catalogue, best first, ties by `tie_order`.

    exclude: leave out every item a user has in this matrix. allowed: bool (n_items,), what may be listed. Memory
    beside the result: one block of scores a thread. Cost: one matrix product and one scan of the scores.
    """
    require_range("n", n, 1, whole=True)
    n_items = len(tie_order)
    user_rows = np.ascontiguousarray(user_rows, dtype=np.int32)
    n = min(n, n_items)
    items = np.empty((len(user_rows), n), dtype=np.int32)
    scores = np.empty((len(user_rows), n), dtype=np.float32)
    factors = model.factors()
    block = max(1, min(1024, BLOCK_SCORES // n_items, -(-len(user_rows) // default_threads())))

    def work(lo: int, hi: int) -> None:
        rows = user_rows[lo:hi]
        table = model.scores(rows) if factors is None else factors.users[rows] @ factors.items.T
        if exclude is not None:
            kernels.mask_rows(table, rows, exclude.indptr, exclude.indices)
        if allowed is not None:
            table[:, ~allowed] = -np.inf
        kernels.select_rows(table, tie_order, items[lo:hi], scores[lo:hi])

    run_ranges(work, even_ranges(len(user_rows), block), progress=progress)
    return Lists(items, scores)


def top_n_of_new(
    model: Model,
    shown: InteractionMatrix,
    user_rows: np.ndarray,
    n: int,
    tie_order: np.ndarray,
    *,
    progress: Progress | None = None,
) -> Lists:
    """The n best items of people training never saw, by folding in the history `shown` of each and leaving it out.

    A model that is the same for everyone needs no history. Raises InputError where a model cannot fold in.
    """
    require_range("n", n, 1, whole=True)
    n_items = len(tie_order)
    user_rows = np.ascontiguousarray(user_rows, dtype=np.int32)
    n = min(n, n_items)
    items = np.empty((len(user_rows), n), dtype=np.int32)
    best = np.empty((len(user_rows), n), dtype=np.float32)
    anyone = None if model.personal else model.scores(np.zeros(1, np.int32))
    block = max(1, min(256, BLOCK_SCORES // n_items))

    def work(lo: int, hi: int) -> None:
        rows = user_rows[lo:hi]
        table = np.empty((hi - lo, n_items), dtype=np.float32)
        for place, row in enumerate(rows):
            history = shown.history(int(row))
            table[place] = anyone[0] if anyone is not None else model.scores_of(model.fold_in(*history))
        kernels.mask_rows(table, rows, shown.indptr, shown.indices)
        kernels.select_rows(table, tie_order, items[lo:hi], best[lo:hi])

    run_ranges(work, even_ranges(len(user_rows), block), progress=progress)
    return Lists(items, best)


def top_of(scores: np.ndarray, n: int, tie_order: np.ndarray, exclude: np.ndarray | None = None) -> Lists:
    """The n best of one row of scores, float32 (n_items,); `exclude` holds item rows to leave out."""
    require_range("n", n, 1, whole=True)
    table = np.array(scores, dtype=np.float32, ndmin=2)
    if exclude is not None:
        table[0, exclude] = -np.inf
    n = min(n, table.shape[1])
    items, best = np.empty((1, n), dtype=np.int32), np.empty((1, n), dtype=np.float32)
    kernels.select_rows(table, tie_order, items, best)
    kept = items[0] >= 0
    return Lists(items[0][kept], best[0][kept])
