"""The best items for one user by bounds that spare most of the products."""

import numpy as np
from numba import njit

from gleaner.core.kernels.topn import _sift_down, _sift_up, _sort_heap, _worse

BLOCK = 256
"""Items looked at together: their bounds are made side by side, a vector register at a time."""

ROUNDING = np.float32(1.2e-7)
"""What rounding in 32 bits can add to a bound and take from a score at every factor, as a share of the product of the
norms."""


@njit(nogil=True, cache=True, fastmath=True)
def _add_products(codes, weights, first, last, out):
    """out[j] += sum over d in [first, last) of weights[d] codes[d, j]; codes int8 (n_factors, BLOCK)."""
    for d in range(first, last):
        weight, row = weights[d], codes[d]
        for j in range(BLOCK):
            out[j] += weight * np.float32(row[j])


@njit(nogil=True, cache=True, fastmath=True)
def _dot(a, b):
    total = np.float32(0)
    for d in range(len(a)):
        total += a[d] * b[d]
    return total


@njit(nogil=True, cache=True)
def _any_reaches(bounds, tails, tail, bar):
    """Whether one bound with its tail reaches the bar."""
    found = False
    for j in range(BLOCK):
        found |= bounds[j] + tail * tails[j] >= bar
    return found


@njit(nogil=True, cache=True)
def _among(sorted_rows, row):
    """Whether a row is in a rising list of them."""
    at = np.searchsorted(sorted_rows, row)
    return at < len(sorted_rows) and sorted_rows[at] == row


@njit(nogil=True, cache=True)
def best_items(
    codes, steps, tails, norms, order, item_factors, user, turned, n_head, tail, allowed, left_out, ties, items, best
):
    """The best items of one user, best first, written to items int32 (n,) and best float32 (n,). Answers how many
    items were scored in full.

    codes int8 (n_blocks, n_factors, BLOCK) times steps float32 (n_blocks, n_factors) are the turned item factors to
    half a step, items by falling norm; tails float32 (n_blocks, BLOCK) are their norms behind the first n_head
    directions, norms float32 (n_blocks,) the largest of each block, order int32 (n_blocks, BLOCK) the items, -1 where
    a block is not full. item_factors float32 (n_items, n_factors) and user float32 (n_factors,) are as trained, turned
    float32 (n_factors,) is the user's in the turned space and tail its norm behind n_head. allowed uint8 (n_items,),
    or empty for all; left_out int32, rising item rows.

    The walk ends at the first block whose largest norm times the user's cannot reach the worst item kept. A block is
    left after its leading directions if none of its items can reach it. Of the others only items whose low-precision
    product, with room for its error, reaches it are scored. So no item is lost.
    """
    n, n_factors = len(items), len(turned)
    bounds, weights = np.empty(BLOCK, dtype=np.float32), np.empty(n_factors, dtype=np.float32)
    norm = np.float32(np.sqrt(_dot(turned, turned)))
    rounding = ROUNDING * np.float32(n_factors + 8)
    size, scored = 0, 0
    bar = np.float32(-np.inf)
    for b in range(len(order)):
        reach = norm * norms[b]
        if reach * (np.float32(1) + rounding) < bar:
            break
        head_error, error = np.float32(0), rounding * reach
        for d in range(n_factors):
            weights[d] = turned[d] * steps[b, d]
            error += np.float32(0.5) * abs(weights[d])
            if d == n_head - 1:
                head_error = error
        bounds[:] = 0
        _add_products(codes[b], weights, 0, n_head, bounds)
        if not _any_reaches(bounds, tails[b], tail, bar - head_error):
            continue
        _add_products(codes[b], weights, n_head, n_factors, bounds)
        for j in range(BLOCK):
            if bounds[j] + error < bar:
                continue
            i = order[b, j]
            if i < 0 or (len(allowed) > 0 and allowed[i] == 0) or _among(left_out, i):
                continue
            score = _dot(item_factors[i], user)
            scored += 1
            if size < n:
                _sift_up(items, best, size, i, score, ties)
                size += 1
            elif _worse(best[0], items[0], score, i, ties):
                _sift_down(items, best, n, i, score, ties)
            if size == n:
                bar = best[0]
    _sort_heap(items, best, size, ties)
    items[size:] = -1
    best[size:] = -np.inf
    return scored
