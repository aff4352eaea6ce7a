"""Fused scan of a block of scores for the best n of each row."""

import numpy as np
from numba import njit

CHUNK = 16
FEW = 16
"""Equal scores that are put in order one by one."""
_LOWER_BITS, _PLACE = np.int64(0x7FFFFFFF), np.int64(0xFFFFFFFF)
_LOWEST = np.finfo(np.float32).min


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
    second pass looks only into chunks that reach it, and few items are left to be sorted. Where many are equal to the
    bar, a heap takes them one by one.
    """
    n_rows, n_items = scores.shape
    n = items.shape[1]
    n_chunks = (n_items + CHUNK - 1) // CHUNK
    highest = np.empty(n_chunks, dtype=np.float32)
    fewer = np.empty((n_chunks + 3) // 4, dtype=np.float32)
    reaching = np.empty(4 * (n + CHUNK), dtype=np.int32)
    for r in range(n_rows):
        row, kept, kept_scores = scores[r], items[r], best[r]
        _chunk_maxima(row, highest)
        bar = _bar(highest, fewer, n)
        size = _reaching(row, highest, bar, reaching)
        if size >= 0:
            size = _sorted(row, reaching[:size], tie_order, kept, kept_scores)
        else:
            size = _by_heap(row, highest, bar, tie_order, kept, kept_scores)
        kept[size:] = -1
        kept_scores[size:] = -np.inf


@njit(nogil=True, cache=True)
def _bar(highest, fewer, n):
    """A score that at least n items reach, few more where it can be had: the n-th highest of the chunks, or of every
    four of them (`fewer`, written), which is a little lower and found in a quarter of the time."""
    if 3 * n <= len(fewer):
        _chunk_maxima(highest, fewer)
        return max(_LOWEST, np.partition(fewer, len(fewer) - n)[len(fewer) - n])
    if n <= len(highest):
        return max(_LOWEST, np.partition(highest, len(highest) - n)[len(highest) - n])
    return _LOWEST


@njit(nogil=True, cache=True)
def _chunk_maxima(row, highest):
    """The highest score of each chunk. A comparison with NaN is false, so NaN is never taken; dealt chunks lie side by
    side, so many are compared at a time."""
    n_items, n_chunks = len(row), len(highest)
    highest[:] = -np.inf
    for lo in range(0, n_items, n_chunks):
        part = row[lo : min(lo + n_chunks, n_items)]
        for c in range(len(part)):
            highest[c] = part[c] if part[c] > highest[c] else highest[c]


@njit(nogil=True, cache=True)
def _reaching(row, highest, bar, reaching):
    """The items that reach the bar, written to `reaching`; how many, or -1 where it has no room for them."""
    n_items, n_chunks, size = len(row), len(highest), 0
    for chunk in range(n_chunks):
        if highest[chunk] < bar:
            continue
        for i in range(chunk, n_items, n_chunks):
            if row[i] >= bar:
                if size == len(reaching):
                    return -1
                reaching[size] = i
                size += 1
    return size


@njit(nogil=True, cache=True)
def _sorted(row, reaching, tie_order, kept, kept_scores):
    """The best of `reaching` in order; how many. Sorted as whole numbers: the score's bits, made to fall as scores
    rise, above the place in `reaching`."""
    keys = np.empty(len(reaching), dtype=np.int64)
    for place in range(len(reaching)):
        # minus zero becomes zero
        kept_scores[0] = row[reaching[place]] + np.float32(0)
        bits = np.int64(kept_scores[:1].view(np.int32)[0])
        keys[place] = (~(bits ^ ((bits >> 63) & _LOWER_BITS)) << 32) | place
    keys.sort()
    order = np.empty(len(reaching), dtype=np.int32)
    for place in range(len(reaching)):
        order[place] = reaching[keys[place] & _PLACE]
    lo = 0
    while lo < len(order):
        hi = lo + 1
        while hi < len(order) and keys[hi] >> 32 == keys[lo] >> 32:
            hi += 1
        if hi - lo > FEW:
            order[lo:hi] = order[lo:hi][np.argsort(tie_order[order[lo:hi]])]
        else:
            _insertion(order, lo, hi, tie_order)
        lo = hi
    size = min(len(order), len(kept))
    for place in range(size):
        kept[place] = order[place]
        kept_scores[place] = row[order[place]]
    return size


@njit(nogil=True, cache=True)
def _insertion(order, lo, hi, tie_order):
    for place in range(lo + 1, hi):
        item, at = order[place], place
        while at > lo and tie_order[order[at - 1]] > tie_order[item]:
            order[at] = order[at - 1]
            at -= 1
        order[at] = item


@njit(nogil=True, cache=True)
def _by_heap(row, highest, bar, tie_order, kept, kept_scores):
    """The best of those that reach the bar, in order; how many."""
    n_items, n_chunks, n, size = len(row), len(highest), len(kept), 0
    for chunk in range(n_chunks):
        if highest[chunk] < bar:
            continue
        for i in range(chunk, n_items, n_chunks):
            score = row[i]
            if not score >= bar:
                continue
            if size < n:
                _sift_up(kept, kept_scores, size, i, score, tie_order)
                size += 1
            elif _worse(kept_scores[0], kept[0], score, i, tie_order):
                _sift_down(kept, kept_scores, n, i, score, tie_order)
    _sort_heap(kept, kept_scores, size, tie_order)
    return size


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
