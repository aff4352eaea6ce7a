"""Coordinate descent: sparse non-negative regressions over items, and non-negative factors."""

import numpy as np
from numba import njit

from gleaner.core.kernels import SUM_MATH


@njit(nogil=True, cache=True)
def sparse_columns(lo, hi, gram, l1, l2, sweeps, tolerance, kept, weights, counts):
    """For items lo to hi the non-negative w that minimises 0.5 |x_i - X w|^2 + 0.5 l2 |w|^2 + l1 sum w, w_i = 0.

    gram float32 (n_items, n_items) = X'X with entries that are not negative; then an item j with gram[j, i] <= l1 keeps
    w_j = 0 at the minimum, so only the others are visited. kept int32 (n_items, k), filled with -1, and weights
    float32 of the same shape take the k largest weights, counts int64 (n_items,) how many were above 0.
    """
    n_items, k = len(gram), kept.shape[1]
    w = np.zeros(n_items)
    fitted = np.zeros(n_items)
    for i in range(lo, hi):
        active = np.flatnonzero(gram[i] > l1)
        active = active[active != i]
        w[active] = 0
        fitted[active] = 0
        for _ in range(sweeps):
            moved = 0.0
            for j in active:
                square = np.float64(gram[j, j])
                new = (gram[i, j] - fitted[j] + square * w[j] - l1) / (square + l2)
                new = max(new, 0.0)
                step = new - w[j]
                if step == 0:
                    continue
                w[j] = new
                for m in active:
                    fitted[m] += step * gram[j, m]
                moved = max(moved, abs(step))
            if moved < tolerance:
                break
        order = np.argsort(-w[active], kind="mergesort")
        counts[i] = np.count_nonzero(w[active] > 0)
        for place in range(min(k, counts[i])):
            j = active[order[place]]
            kept[i, place], weights[i, place] = j, w[j]


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def nonnegative_rows(lo, hi, indptr, indices, values, other, penalty, sweeps, mine):
    """Coordinate descent on each row of `mine`, kept at or above 0, of sum over its cells of (r - x.y)^2 + penalty n
    |x|^2.

    values float32 (n_cells,), other and mine float32 (n, rank). A row without cells becomes 0. Writes rows lo to hi.
    """
    rank = mine.shape[1]
    for row in range(lo, hi):
        start, stop = indptr[row], indptr[row + 1]
        x = mine[row]
        if start == stop:
            x[:] = 0
            continue
        n = stop - start
        # the other side's factors turned, so that a coordinate is one stretch of memory
        turned = np.empty((rank, n), dtype=np.float32)
        left = np.empty(n, dtype=np.float32)
        for at in range(n):
            fit = np.float32(0)
            for f in range(rank):
                y = other[indices[start + at], f]
                turned[f, at] = y
                fit += x[f] * y
            left[at] = values[start + at] - fit
        for _ in range(sweeps):
            for f in range(rank):
                y = turned[f]
                top, bottom = np.float32(0), np.float32(penalty * n)
                for at in range(n):
                    top += y[at] * left[at]
                    bottom += y[at] * y[at]
                top += x[f] * (bottom - np.float32(penalty * n))
                new = max(top / bottom, np.float32(0)) if bottom > 0 else np.float32(0)
                step = new - x[f]
                x[f] = new
                for at in range(n):
                    left[at] -= step * y[at]
