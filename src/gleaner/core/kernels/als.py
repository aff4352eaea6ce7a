"""Conjugate-gradient steps of weighted alternating least squares, one row range at a time."""

import numpy as np
from numba import njit

from gleaner.core.kernels import SUM_MATH


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def solve_rows(lo, hi, indptr, indices, weights, other, gram, ridge, steps, mine):
    """Improve `mine[lo:hi]` by `steps` conjugate-gradient steps on each row's normal equations.

    Row u solves A x = b with A = sum_i w_ui y_i y_i' + gram + ridge_u I and b = sum_i w_ui y_i, over its observed
    i only. indptr int64 (n_rows + 1,), indices int32 and weights float32 (n_cells,), other float32 (n_other, rank),
    gram float32 (rank, rank), already times the unobserved weight, ridge float32 (n_rows,), mine float32
    (n_rows, rank), read as the start and written. Writes only rows lo to hi.
    """
    rank = mine.shape[1]
    residual = np.empty(rank, dtype=np.float32)
    direction = np.empty(rank, dtype=np.float32)
    image = np.empty(rank, dtype=np.float32)
    for row in range(lo, hi):
        x = mine[row]
        start, stop = indptr[row], indptr[row + 1]
        if start == stop:
            x[:] = 0
            continue
        _gram_part(gram, ridge[row], x, image)
        for f in range(rank):
            residual[f] = -image[f]
        for at in range(start, stop):
            y = other[indices[at]]
            fit = np.float32(0)
            for f in range(rank):
                fit += y[f] * x[f]
            scale = weights[at] * (np.float32(1) - fit)
            for f in range(rank):
                residual[f] += scale * y[f]
        old = np.float32(0)
        for f in range(rank):
            direction[f] = residual[f]
            old += residual[f] * residual[f]
        for _ in range(steps):
            if old < np.float32(1e-20):
                break
            _gram_part(gram, ridge[row], direction, image)
            for at in range(start, stop):
                y = other[indices[at]]
                fit = np.float32(0)
                for f in range(rank):
                    fit += y[f] * direction[f]
                scale = weights[at] * fit
                for f in range(rank):
                    image[f] += scale * y[f]
            curve = np.float32(0)
            for f in range(rank):
                curve += direction[f] * image[f]
            length = old / curve
            new = np.float32(0)
            for f in range(rank):
                x[f] += length * direction[f]
                residual[f] -= length * image[f]
                new += residual[f] * residual[f]
            turn = new / old
            for f in range(rank):
                direction[f] = residual[f] + turn * direction[f]
            old = new


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _gram_part(gram, ridge, x, out):
    """out = (gram + ridge I) x. gram is symmetric, so its rows are read in order and added up."""
    rank = x.shape[0]
    for f in range(rank):
        out[f] = ridge * x[f]
    for g in range(rank):
        scale = x[g]
        for f in range(rank):
            out[f] += scale * gram[g, f]


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def observed_loss(lo, hi, indptr, indices, weights, mine, other, out):
    """out[row] = sum over observed cells of w (1 - fit)^2, in float64. Writes only rows lo to hi."""
    rank = mine.shape[1]
    for row in range(lo, hi):
        total = 0.0
        for at in range(indptr[row], indptr[row + 1]):
            fit = np.float32(0)
            for f in range(rank):
                fit += mine[row, f] * other[indices[at], f]
            miss = 1.0 - fit
            total += weights[at] * miss * miss
        out[row] = total
