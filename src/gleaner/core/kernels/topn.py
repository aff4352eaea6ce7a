"""Fused scan of a block of scores for the best n of each row."""

import numpy as np
from numba import njit

CHUNK = 16

_LOWER_BITS = np.int32(0x7FFFFFFF)
_INFINITY = np.int32(0x7F800000)
_NOTHING = np.int32(-0x7F800001)
"""The whole number of minus infinity: its bits, 0xFF800000, with the lower ones turned over."""


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

    The items are dealt into chunks like cards: chunk c has items c, c + n_chunks, c + 2 n_chunks, ... A first pass
    takes the highest score of each chunk. The n-th highest of these is a bar that at least n items reach, so the
    second pass looks only into chunks that reach it, and few items enter the heap in vain.
    """
    n_rows, n_items = scores.shape
    n = items.shape[1]
    n_chunks = (n_items + CHUNK - 1) // CHUNK
    highest = np.empty(n_chunks, dtype=np.int32)
    for r in range(n_rows):
        row, kept, kept_scores = scores[r], items[r], best[r]
        bits = row.view(np.int32)
        _chunk_maxima(bits, highest)
        bar = _NOTHING + np.int32(1)
        if n <= n_chunks:
            bar = max(bar, np.partition(highest, n_chunks - n)[n_chunks - n])
        size = 0
        for chunk in range(n_chunks):
            if highest[chunk] < bar:
                continue
            for i in range(chunk, n_items, n_chunks):
                key = _order_key(bits[i])
                if key < bar:
                    continue
                score = row[i]
                if size < n:
                    _sift_up(kept, kept_scores, size, i, score, tie_order)
                    size += 1
                elif _worse(kept_scores[0], kept[0], score, i, tie_order):
                    _sift_down(kept, kept_scores, n, i, score, tie_order)
        _sort_heap(kept, kept_scores, size, tie_order)
        kept[size:] = -1
        kept_scores[size:] = -np.inf


@njit(nogil=True, cache=True)
def _chunk_maxima(bits, highest):
    """The highest score of each chunk, as whole numbers in the order of the scores.

    bits: int32 (n_items,), the scores' own bits. Whole numbers compare without regard to NaN and dealt chunks lie side
    by side, so many are compared at a time.
    """
    n_items, n_chunks = len(bits), len(highest)
    highest[:] = _NOTHING
    for lo in range(0, n_items, n_chunks):
        part = bits[lo : min(lo + n_chunks, n_items)]
        for c in range(len(part)):
            highest[c] = max(highest[c], _order_key(part[c]))


@njit(nogil=True, cache=True, inline="always")
def _order_key(bits):
    """A whole number that orders as the float with these bits; NaN is as minus infinity, and -0.0 as 0.0."""
    key = bits ^ ((bits >> np.int32(31)) & _LOWER_BITS)
    key = key if key != np.int32(-1) else np.int32(0)
    return key if key <= _INFINITY else _NOTHING


@njit(nogil=True, cache=True, inline="always")
def _worse(score_a, item_a, score_b, item_b, tie_order):
    """Whether a ranks behind b."""
    return score_a < score_b or (score_a == score_b and tie_order[item_a] > tie_order[item_b])


@njit(nogil=True, cache=True)
def _sift_up(items, best, place, item, score, tie_order):
    """Add to a heap whose root is the worst kept."""
    while place > 0:
        above = (place - 1) // 2
        if not _worse(score, item, best[above], items[above], tie_order):
            break
        items[place], best[place] = items[above], best[above]
        place = above
    items[place], best[place] = item, score


@njit(nogil=True, cache=True)
def _sift_down(items, best, size, item, score, tie_order):
    """Replace the root, the worst kept, and restore the heap."""
    place = 0
    while True:
        below = 2 * place + 1
        if below >= size:
            break
        right = below + 1
        if right < size and _worse(best[right], items[right], best[below], items[below], tie_order):
            below = right
        if not _worse(best[below], items[below], score, item, tie_order):
            break
        items[place], best[place] = items[below], best[below]
        place = below
    items[place], best[place] = item, score


@njit(nogil=True, cache=True)
def _sort_heap(items, best, size, tie_order):
    """Empty the heap from its worst, which leaves the row best first."""
    for last in range(size - 1, 0, -1):
        item, score = items[last], best[last]
        items[last], best[last] = items[0], best[0]
        _sift_down(items, best, last, item, score, tie_order)
