"""Users for an item, items like an item, users like a user."""

from __future__ import annotations

from typing import Literal

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import require_range
from gleaner.core.kernels import topn as kernels
from gleaner.core.models.base.capabilities import ComparesByHand, factors_of, item_likeness_of, user_likeness_of
from gleaner.core.models.base.protocol import Model
from gleaner.core.parallel import Progress, even_ranges, run_ranges
from gleaner.core.ranking.topn import BLOCK_SCORES, Lists, top_of

Side = Literal["item", "user"]


def top_users(
    model: Model,
    item_rows: np.ndarray,
    n: int,
    tie_order: np.ndarray,
    *,
    exclude: InteractionMatrix | None = None,
    allowed: np.ndarray | None = None,
    progress: Progress | None = None,
) -> Lists:
    """The n users with the highest score for each item, best first, ties by `tie_order` of users.

    exclude: leave out users who have the item in this matrix. allowed: bool (n_users,), who may be listed.
    """
    require_range("n", n, 1, whole=True)
    n_users = len(tie_order)
    item_rows = np.ascontiguousarray(item_rows, dtype=np.int32)
    n = min(n, n_users)
    users = np.empty((len(item_rows), n), dtype=np.int32)
    best = np.empty((len(item_rows), n), dtype=np.float32)
    block = max(1, min(256, BLOCK_SCORES // n_users))

    def work(lo: int, hi: int) -> None:
        table = np.ascontiguousarray(model.item_scores(item_rows[lo:hi]), dtype=np.float32)
        if exclude is not None:
            kernels.mask_rows(table, item_rows[lo:hi], exclude.by_item[0], exclude.by_item[1])
        if allowed is not None:
            table[:, ~allowed] = -np.inf
        kernels.select_rows(table, tie_order, users[lo:hi], best[lo:hi])

    run_ranges(work, even_ranges(len(item_rows), block), progress=progress)
    return Lists(users, best)


def likeness_to(model: Model, train: InteractionMatrix, side: Side, row: int) -> tuple[np.ndarray, str]:
    """Likeness of every item, or user, to one: float32 (n,), and by what.

    As the model sees it where it has a view, with a sign where its likeness has one; else the cosine of who has what in
    the training matrix.
    """
    if isinstance(model, ComparesByHand) and (table := model.likeness_table(side, row)) is not None:
        return table.likeness, model.compares_by
    likeness = item_likeness_of(model, row) if side == "item" else user_likeness_of(model, row)
    if likeness is not None:
        return likeness
    if side == "item":
        return cosine_of_rows(*train.by_item[:2], len(train.users), row), "cosine of who has them"
    return cosine_of_rows(train.indptr, train.indices, len(train.items), row), "cosine of what they have"


def cosine_of_rows(indptr: np.ndarray, entries: np.ndarray, n_others: int, row: int) -> np.ndarray:
    """Cosine of the pattern of each row of a CSR matrix to that of one: float32 (n_rows,)."""
    mine = np.zeros(n_others, dtype=np.float64)
    mine[entries[indptr[row] : indptr[row + 1]]] = 1
    rows = np.repeat(np.arange(len(indptr) - 1), np.diff(indptr))
    both = np.bincount(rows, mine[entries], minlength=len(indptr) - 1)
    size = np.sqrt(np.diff(indptr) * max(mine.sum(), 1.0))
    return np.divide(both, size, out=np.zeros(len(both)), where=size > 0).astype(np.float32)


def all_alike(
    model: Model,
    train: InteractionMatrix,
    side: Side,
    rows: np.ndarray,
    n: int,
    tie_order: np.ndarray,
    allowed: np.ndarray | None = None,
) -> Lists:
    """The n most alike of several items, or users; those not alike at all are left out.

    For factor models one product of normalised factors for a block of rows, else row by row.
    """
    require_range("n", n, 1, whole=True)
    rows = np.ascontiguousarray(rows, dtype=np.int32)
    count = len(tie_order)
    n = min(n, count)
    lists = Lists(np.empty((len(rows), n), dtype=np.int32), np.empty((len(rows), n), dtype=np.float32))
    factors = factors_of(model)
    tastes = None if factors is None else factors.item_tastes if side == "item" else factors.user_tastes
    unit = None if tastes is None or not tastes.shape[1] else _normalised(tastes)
    block = max(1, min(256, BLOCK_SCORES // count))

    def work(lo: int, hi: int) -> None:
        if unit is not None:
            table = unit[rows[lo:hi]] @ unit.T
        else:
            table = np.stack([likeness_to(model, train, side, int(row))[0] for row in rows[lo:hi]])
        table = _compared(model, table)
        table[np.arange(hi - lo), rows[lo:hi]] = -np.inf
        if allowed is not None:
            table[:, ~allowed] = -np.inf
        kernels.select_rows(table, tie_order, lists.items[lo:hi], lists.scores[lo:hi])

    run_ranges(work, even_ranges(len(rows), block))
    return lists


def _compared(model: Model, likeness: np.ndarray) -> np.ndarray:
    """Likeness that is worth listing; minus infinity in the place of any other."""
    there = likeness != 0 if isinstance(model, ComparesByHand) else likeness > 0
    return np.where(there, likeness, np.float32(-np.inf)).astype(np.float32)


def _normalised(vectors: np.ndarray) -> np.ndarray:
    """Rows of length one; rows of zeros stay: float32."""
    lengths = np.sqrt(np.einsum("ij,ij->i", vectors, vectors, dtype=np.float64))[:, None]
    return np.divide(vectors, lengths, out=np.zeros(vectors.shape), where=lengths > 0).astype(np.float32)


def most_alike(
    model: Model,
    train: InteractionMatrix,
    side: Side,
    row: int,
    n: int,
    tie_order: np.ndarray,
    allowed: np.ndarray | None = None,
) -> tuple[Lists, str]:
    """The n items, or users, most like one; it itself and those not alike at all are left out. Those that differ come
    last, with a minus, where the model's own likeness has one."""
    likeness, by = likeness_to(model, train, side, row)
    kept = _compared(model, likeness)
    if allowed is not None:
        kept[~allowed] = -np.inf
    return top_of(kept, n, tie_order, np.array([row])), by
