"""The n best items for users, exactly, with some left out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import require_range
from gleaner.core.kernels import topn as kernels
from gleaner.core.kernels.cuts import rank_pairs
from gleaner.core.models.base.capabilities import factors_of, history_of, require_folding
from gleaner.core.models.base.context import takes_context
from gleaner.core.models.base.protocol import Model
from gleaner.core.parallel import Progress, default_threads, even_ranges, run_ranges

BLOCK_SCORES = 2_000_000
"""Scores held by one thread at a time: 8 MB, so that a block is still in cache when it is scanned."""


@dataclass(frozen=True, eq=False)
class Lists:
    """One list per user. items: int32 (n_users, n), -1 behind the last. scores: float32, -inf there.

    ranks: int32, where places were asked for: the place, from 1, of every pair asked for.
    """

    items: np.ndarray
    scores: np.ndarray
    ranks: np.ndarray | None = None


@dataclass(frozen=True, eq=False)
class Pairs:
    """Items whose places are wanted: those of the r-th user asked are indices[indptr[r]:indptr[r + 1]]."""

    indptr: np.ndarray
    indices: np.ndarray


def top_n(
    model: Model,
    user_rows: np.ndarray,
    n: int,
    tie_order: np.ndarray,
    *,
    exclude: InteractionMatrix | None = None,
    allowed: np.ndarray | None = None,
    places_of: Pairs | None = None,
    context: pl.DataFrame | None = None,
    progress: Progress | None = None,
) -> Lists:
    """The n best items of each user over the full catalogue, best first, ties by `tie_order`.

    exclude: leave out every item a user has in this matrix. allowed: bool (n_items,), what may be listed. places_of:
    also find the places of these among all items that may be listed. context: a row for each user, in which their list
    is asked for, for models that look at it. Memory beside the result: one block of scores a thread. Cost: one matrix
    product and one scan of the scores, and a scan for each place.
    """
    factors, takes = factors_of(model), takes_context(model)

    def table_of(rows: np.ndarray, lo: int) -> np.ndarray:
        if takes is not None and context is not None:
            return takes.scores_in(rows, context[lo : lo + len(rows)])
        return model.scores(rows) if factors is None else factors.users[rows] @ factors.items.T

    most = -(-len(user_rows) // default_threads())
    return _listed(table_of, user_rows, n, tie_order, exclude, allowed, places_of, min(1024, most), progress)


def top_n_of_new(
    model: Model,
    shown: InteractionMatrix,
    user_rows: np.ndarray,
    n: int,
    tie_order: np.ndarray,
    *,
    exclude: InteractionMatrix | None = None,
    allowed: np.ndarray | None = None,
    places_of: Pairs | None = None,
    context: pl.DataFrame | None = None,
    progress: Progress | None = None,
) -> Lists:
    """The n best items of people training never saw, by folding in the history `shown` of each and leaving it out.

    exclude: what to leave out instead. allowed, context: as for `top_n`.

    A model that is the same for everyone needs no history. Raises InputError where a model cannot fold in.
    """
    folds, takes = require_folding(model) if model.personal else None, takes_context(model)
    anyone = model.scores(np.zeros(1, np.int32))[0] if folds is None else None

    def table_of(rows: np.ndarray, lo: int) -> np.ndarray:
        table = np.empty((len(rows), len(tie_order)), dtype=np.float32)
        for place, row in enumerate(rows):
            if folds is None:
                table[place] = anyone
                continue
            known = folds.fold_in(*history_of(folds, shown, int(row)))
            if takes is not None and context is not None:
                table[place] = takes.scores_of_in(known, context[lo + place])
            else:
                table[place] = folds.scores_of(known)
        return table

    return _listed(table_of, user_rows, n, tie_order, exclude or shown, allowed, places_of, 256, progress)


def _listed(
    table_of: Callable[[np.ndarray, int], np.ndarray],
    user_rows: np.ndarray,
    n: int,
    tie_order: np.ndarray,
    exclude: InteractionMatrix | None,
    allowed: np.ndarray | None,
    places_of: Pairs | None,
    most_rows: int,
    progress: Progress | None,
) -> Lists:
    """Score users block by block, find places, leave out, select."""
    require_range("n", n, 1, whole=True)
    n_items = len(tie_order)
    user_rows = np.ascontiguousarray(user_rows, dtype=np.int32)
    n = min(n, n_items)
    items = np.empty((len(user_rows), n), dtype=np.int32)
    scores = np.empty((len(user_rows), n), dtype=np.float32)
    ranks = None if places_of is None else np.empty(len(places_of.indices), dtype=np.int32)
    nobody = np.zeros(int(user_rows.max(initial=0)) + 2, dtype=np.int64), np.empty(0, dtype=np.int32)
    known = nobody if exclude is None else (exclude.indptr, exclude.indices)

    def work(lo: int, hi: int) -> None:
        rows = user_rows[lo:hi]
        table = table_of(rows, lo)
        if allowed is not None:
            table[:, ~allowed] = -np.inf
        if places_of is not None and ranks is not None:
            edges = places_of.indptr[lo : hi + 1]
            pairs = slice(edges[0], edges[-1])
            mine = places_of.indices[pairs], ranks[pairs]
            rank_pairs(table, rows, known[0], known[1], tie_order, edges, *mine)
        if exclude is not None:
            kernels.mask_rows(table, rows, *known)
        kernels.select_rows(table, tie_order, items[lo:hi], scores[lo:hi])

    block = max(1, min(most_rows, BLOCK_SCORES // n_items))
    run_ranges(work, even_ranges(len(user_rows), block), progress=progress)
    return Lists(items, scores, ranks)


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
