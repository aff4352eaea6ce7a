"""Factors of observed values: least squares a row at a time, and gradient steps a cell at a time."""

import numpy as np
from numba import njit

from gleaner.core.kernels import SUM_MATH
from gleaner.core.kernels.als import solve_lower


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def solve_value_rows(lo, hi, indptr, indices, values, mean, other, other_bias, penalty, mine, bias):
    """The exact minimiser, for rows lo to hi, of sum over its cells of (r - mean - b_other - b - x.y)^2 + penalty n
    (|x|^2 + b^2) over x and b. values float32 (n_cells,), other and mine float32 (n, rank), biases float32 (n,)."""
    rank = mine.shape[1]
    width = rank + 1
    A = np.empty((width, width))
    z = np.empty(width)
    b = np.empty(width)
    z[rank] = 1.0
    for row in range(lo, hi):
        start, stop = indptr[row], indptr[row + 1]
        if start == stop:
            mine[row] = 0
            bias[row] = 0
            continue
        A[:] = 0
        b[:] = 0
        for at in range(start, stop):
            target = values[at] - mean - other_bias[indices[at]]
            for f in range(rank):
                z[f] = other[indices[at], f]
            for f in range(width):
                b[f] += target * z[f]
                for g in range(f + 1):
                    A[f, g] += z[f] * z[g]
        for f in range(width):
            A[f, f] += penalty * (stop - start)
        solve_lower(A, b, width)
        for f in range(rank):
            mine[row, f] = b[f]
        bias[row] = b[rank]


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def value_epoch(lo, hi, indptr, indices, values, block_of, block, mean, X, Y, bu, bi, rate, penalty):
    """One gradient step for every cell of users lo to hi whose item is of a block, in order.

    Loss of a cell: 0.5 e^2 + 0.5 penalty (|x|^2 + |y|^2 + bu^2 + bi^2), e = r - mean - bu - bi - x.y (Funk 2006; Koren,
    Bell, Volinsky 2009). Answers the sum of e^2 before the steps. Touches users lo to hi and items of the block only.
    """
    rank = X.shape[1]
    total = 0.0
    for u in range(lo, hi):
        x = X[u]
        for at in range(indptr[u], indptr[u + 1]):
            i = indices[at]
            if block_of[i] != block:
                continue
            y = Y[i]
            fit = np.float32(0)
            for f in range(rank):
                fit += x[f] * y[f]
            miss = values[at] - mean - bu[u] - bi[i] - fit
            total += miss * miss
            bu[u] += rate * (miss - penalty * bu[u])
            bi[i] += rate * (miss - penalty * bi[i])
            for f in range(rank):
                before = x[f]
                x[f] += rate * (miss * y[f] - penalty * before)
                y[f] += rate * (miss * before - penalty * y[f])
    return total


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def implicit_epoch(order, indptr, indices, values, mean, P, Y, Z, bu, bi, rate, penalty):
    """One pass over users in `order` of factors with an implicit part: r ~ mean + bu + bi + y.(p + n^-1/2 sum z_j), j
    over the user's items (Koren 2008, eq. 15). The gradient of the z's is gathered over a user's cells and taken at the
    end of the user. Sequential: every user touches the z of all their items. Answers the sum of e^2."""
    rank = P.shape[1]
    whole = np.empty(rank, dtype=np.float32)
    gathered = np.empty(rank, dtype=np.float32)
    total = 0.0
    for u in order:
        start, stop = indptr[u], indptr[u + 1]
        if start == stop:
            continue
        share = np.float32(1 / np.sqrt(stop - start))
        whole[:] = 0
        gathered[:] = 0
        for at in range(start, stop):
            for f in range(rank):
                whole[f] += share * Z[indices[at], f]
        for at in range(start, stop):
            i = indices[at]
            fit = np.float32(0)
            for f in range(rank):
                fit += Y[i, f] * (P[u, f] + whole[f])
            miss = values[at] - mean - bu[u] - bi[i] - fit
            total += miss * miss
            bu[u] += rate * (miss - penalty * bu[u])
            bi[i] += rate * (miss - penalty * bi[i])
            for f in range(rank):
                y = Y[i, f]
                gathered[f] += miss * y
                Y[i, f] += rate * (miss * (P[u, f] + whole[f]) - penalty * y)
                P[u, f] += rate * (miss * y - penalty * P[u, f])
        for at in range(start, stop):
            for f in range(rank):
                Z[indices[at], f] += rate * (share * gathered[f] - penalty * Z[indices[at], f])
    return total
