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


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def solve_blocks(lo, hi, indptr, indices, weights, other, gram, ridge, width, mine):
    """One exact Newton step on `width` columns of each row at a time, in order; all of them at once where width is the
    rank, which solves the row exactly. Arrays as in `solve_rows`; sums in float64. Writes only rows lo to hi."""
    rank = mine.shape[1]
    A = np.empty((width, width))
    b = np.empty(width)
    for row in range(lo, hi):
        x = mine[row]
        start, stop = indptr[row], indptr[row + 1]
        if start == stop:
            x[:] = 0
            continue
        fits = np.empty(stop - start)
        for at in range(start, stop):
            y = other[indices[at]]
            fit = 0.0
            for f in range(rank):
                fit += y[f] * x[f]
            fits[at - start] = fit
        for first in range(0, rank, width):
            size = min(width, rank - first)
            for f in range(size):
                total = ridge[row] * x[first + f]
                for g in range(rank):
                    total += gram[first + f, g] * x[g]
                b[f] = -total
                for g in range(f + 1):
                    A[f, g] = gram[first + f, first + g]
                A[f, f] += ridge[row]
            for at in range(start, stop):
                y = other[indices[at]]
                miss = weights[at] * (1.0 - fits[at - start])
                for f in range(size):
                    scaled = weights[at] * y[first + f]
                    b[f] += miss * y[first + f]
                    for g in range(f + 1):
                        A[f, g] += scaled * y[first + g]
            solve_lower(A, b, size)
            for f in range(size):
                x[first + f] += b[f]
            for at in range(start, stop):
                y = other[indices[at]]
                for f in range(size):
                    fits[at - start] += b[f] * y[first + f]


@njit(nogil=True, cache=True)
def solve_lower(A, b, n):
    """Solve A x = b in place, b becoming x: A symmetric positive definite, its lower half given and overwritten by its
    Cholesky factor. A direction without weight (pivot not above 0) gets 0."""
    for i in range(n):
        for j in range(i + 1):
            total = A[i, j]
            for m in range(j):
                total -= A[i, m] * A[j, m]
            if i == j:
                A[i, i] = np.sqrt(total) if total > 1e-30 else 0.0
            else:
                A[i, j] = total / A[j, j] if A[j, j] > 0 else 0.0
    for i in range(n):
        total = b[i]
        for m in range(i):
            total -= A[i, m] * b[m]
        b[i] = total / A[i, i] if A[i, i] > 0 else 0.0
    for i in range(n - 1, -1, -1):
        total = b[i]
        for m in range(i + 1, n):
            total -= A[m, i] * b[m]
        b[i] = total / A[i, i] if A[i, i] > 0 else 0.0
