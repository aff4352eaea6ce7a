"""Chooses the regularisation of an item-item ridge regression on cells that are held out of training."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy import sparse

from gleaner.core.errors import InputError
from gleaner.core.kernels import topn
from gleaner.core.parallel import even_ranges, run_ranges

MAX_ITEMS = 1_500
MAX_USERS = 4_000
"""The choice looks at the most popular items and at some of the users, so that it takes no longer than a fit."""

HELD_OUT_SHARE = 0.2
MIN_USERS = 30
"""Below so many users with a held-out cell the choice would be chance."""

USERS_AT_ONCE = 256
DEFAULT = 100.0
DEPTH = 10
FIRST_STEP, LOWEST_STEP, HIGHEST_STEP = 4, -2, 12
"""Candidates are 10^(step / 2) times the mean squared weight of a cell; the first is DEFAULT for binary cells."""

WORSE_IN_A_ROW = 2
"""A direction is given up after so many candidates that are no better."""

Solve = Callable[[np.ndarray, float], np.ndarray]


@dataclass(frozen=True, eq=False)
class HeldOutHistories:
    """Histories of some users, each divided in two.

    train: sparse (users, items), all cells but those held out, of all users. histories: sparse (n, items), what is left
    of the users that are judged. held_out: bool (n, items).
    """

    train: sparse.csr_array
    histories: sparse.csr_array
    held_out: np.ndarray

    @classmethod
    def of_cells(cls, cells: sparse.csr_array, seed: int = 1) -> HeldOutHistories | None:
        """Divide the histories of a matrix of weights. Return None where too few users have two cells."""
        counts = np.bincount(cells.indices, minlength=cells.shape[1])
        popular = np.sort(np.argsort(-counts, kind="stable")[:MAX_ITEMS])
        cells = sparse.csr_array(cells[:, popular])
        cells.sort_indices()
        lengths = np.diff(cells.indptr)
        users = np.flatnonzero(lengths >= 2)
        if len(users) < MIN_USERS:
            return None
        users = users[np.unique(np.linspace(0, len(users) - 1, MAX_USERS).astype(np.int64))]
        is_held = _drawn(cells, users, np.random.default_rng(seed))
        held = sparse.csr_array((is_held.astype(np.int8), cells.indices, cells.indptr), shape=cells.shape)
        data = np.where(is_held, np.float32(0), cells.data)
        train = sparse.csr_array((data, cells.indices.copy(), cells.indptr.copy()), shape=cells.shape)
        train.eliminate_zeros()
        return cls(train, train[users], held[users].toarray() > 0)

    def ndcg(self, weights: np.ndarray) -> float:
        """Mean nDCG@10 of the held-out cells by weights, float (items, items), among the items not in the history."""
        depth, n_users = min(DEPTH, weights.shape[0]), self.histories.shape[0]
        best = np.empty((n_users, depth), np.int32)
        indptr, indices = self.histories.indptr.astype(np.int64), self.histories.indices.astype(np.int32)
        ties, weights = np.arange(len(weights), dtype=np.int32), weights.astype(np.float32, copy=False)

        def work(lo: int, hi: int) -> None:
            scores = np.ascontiguousarray(self.histories[lo:hi] @ weights)
            topn.mask_rows(scores, np.arange(lo, hi, dtype=np.int32), indptr, indices)
            topn.select_rows(scores, ties, best[lo:hi], np.empty((hi - lo, depth), np.float32))

        run_ranges(work, even_ranges(n_users, USERS_AT_ONCE))
        hits = np.take_along_axis(self.held_out, np.maximum(best, 0), axis=1) & (best >= 0)
        discounts = 1 / np.log2(np.arange(2, depth + 2))
        ideal = np.cumsum(discounts)[np.minimum(self.held_out.sum(axis=1), depth) - 1]
        return float(np.mean(hits @ discounts / ideal))


def _drawn(cells: sparse.csr_array, users: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Return which cells are held out: bool (n_cells,), a share of each user's, drawn evenly, at least one."""
    is_held = np.zeros(cells.nnz, dtype=bool)
    for user in users:
        first, stop = cells.indptr[user], cells.indptr[user + 1]
        n_held = max(1, round(HELD_OUT_SHARE * (stop - first)))
        is_held[first + rng.choice(stop - first, n_held, replace=False)] = True
    return is_held


def choose_regularisation(
    cells: sparse.csr_array, gram_of: Callable[[sparse.csr_array], np.ndarray], solve: Solve
) -> float:
    """Return the candidate whose weights rank held-out cells best: up or down from the first while that is better.

    cells: the weighed training matrix, sparse float32 (users, items).
    gram_of: returns X'X of such a matrix, from the diagonal on.
    solve: returns the weights of a Gram matrix, which it overwrites, and a regularisation.
    """
    divided = HeldOutHistories.of_cells(cells)
    if divided is None:
        return DEFAULT
    unit = float(np.mean(np.square(cells.data, dtype=np.float64)))
    gram = gram_of(divided.train)
    figures: dict[int, float] = {}

    def figure(step: int) -> float:
        if step not in figures:
            try:
                figures[step] = divided.ndcg(solve(gram.copy(), unit * 10 ** (step / 2)))
            except InputError:
                # too small for the system to be solved
                figures[step] = -1.0
        return figures[step]

    best = FIRST_STEP
    figure(best)
    for direction in (1, -1):
        step, worse = FIRST_STEP, 0
        while worse < WORSE_IN_A_ROW and LOWEST_STEP < step < HIGHEST_STEP:
            step += direction
            is_better = figure(step) > figures[best]
            best, worse = (step, 0) if is_better else (best, worse + 1)
        if best != FIRST_STEP:
            # figures rise to one side of the first
            break
    return unit * 10 ** (best / 2)
