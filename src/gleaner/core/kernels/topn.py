"""Fused scan of a block of scores for the best n of each row."""

import numpy as np
from numba import njit

CHUNK = 64


@njit(nogil=True, cache=True)
def mask_rows(scores, rows, indptr, indices):
    """Set scores[r, i] to minus infinity for the items i of row rows[r] in a CSR pattern."""
    for r in range(len(rows)):
        row = rows[r]
        for at in range(indptr[row], indptr[row + 1]):
            scores[r, indices[at]] = -np.inf


@njit(nogil=True, cache=True)
def select_rows(scores, tie_order, items, best):
    """The best n items of each row of scores, best first; of equal scores the lower tie_order goes first.

    scores float32 (n_rows, n_items), tie_order int32 (n_items,), items int32 (n_rows, n) and best float32
    (n_rows, n), both written. Scores of minus infinity or NaN are never taken: places behind the last item hold -1.
    A chunk whose scores all lie below the worst one kept costs one comparison an item.
    """
    n_rows, n_items = scores.shape
    n = items.shape[1]
    for r in range(n_rows):
        row = scores[r]
        size = 0
        bar = np.float32(-np.inf)
        for lo in range(0, n_items, CHUNK):
            hi = min(lo + CHUNK, n_items)
            hits = 0
            for i in range(lo, hi):
                hits += row[i] >= bar
            if hits == 0:
                continue
            for i in range(lo, hi):
                score = row[i]
                if not score >= bar or score == -np.inf:
                    continue
                if size < n:
                    _sift_up(items, best, r, size, i, score, tie_order)
                    size += 1
                elif score > bar or tie_order[i] < tie_order[items[r, 0]]:
                    _sift_down(items, best, r, n, i, score, tie_order)
                if size == n:
                    bar = best[r, 0]
        _sort_heap(items, best, r, size, tie_order)
        for place in range(size, n):
            items[r, place] = -1
            best[r, place] = -np.inf


@njit(nogil=True, cache=True, inline="always")
def _worse(score_a, item_a, score_b, item_b, tie_order):
    """Whether a ranks behind b."""
    return score_a < score_b or (score_a == score_b and tie_order[item_a] > tie_order[item_b])


@njit(nogil=True, cache=True)
def _sift_up(items, best, r, place, item, score, tie_order):
    """Add to a heap whose root is the worst kept."""
    while place > 0:
        above = (place - 1) // 2
        if not _worse(score, item, best[r, above], items[r, above], tie_order):
            break
        items[r, place], best[r, place] = items[r, above], best[r, above]
        place = above
    items[r, place], best[r, place] = item, score


@njit(nogil=True, cache=True)
def _sift_down(items, best, r, size, item, score, tie_order):
    """Replace the root, the worst kept, and restore the heap."""
    place = 0
    while True:
        below = 2 * place + 1
        if below >= size:
            break
        right = below + 1
        if right < size and _worse(best[r, right], items[r, right], best[r, below], items[r, below], tie_order):
            below = right
        if not _worse(best[r, below], items[r, below], score, item, tie_order):
            break
        items[r, place], best[r, place] = items[r, below], best[r, below]
        place = below
    items[r, place], best[r, place] = item, score


@njit(nogil=True, cache=True)
def _sort_heap(items, best, r, size, tie_order):
    """Empty the heap from its worst, which leaves the row best first."""
    for last in range(size - 1, 0, -1):
        item, score = items[r, last], best[r, last]
        items[r, last], best[r, last] = items[r, 0], best[r, 0]
        _sift_down(items, best, r, last, item, score, tie_order)
