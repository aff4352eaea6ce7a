"""Gradient steps of ranking losses where a factor is a sum over features. Steps share features: one thread only.

A side is (indptr, features, amounts, E, S): row r is the sum of amounts[at] E[features[at]] over its stretch; E float32
(n_features, width) is learned, S float32 of the same shape holds sums of squared gradients for the step size.
"""

import numpy as np
from numba import njit

from gleaner.core.kernels import SUM_MATH
from gleaner.core.kernels.pair_steps import _product, _start, unseen

PAIRWISE, RANKED, SINGLE = 0, 1, 2
"""Losses: pairwise logistic, weighted hinge of an estimated rank, logistic."""


@njit(nogil=True, cache=True)
def add_up(side, row, out):
    """The factor of a row, into the first columns of `out`."""
    indptr, features, amounts, E, _ = side
    width = E.shape[1]
    out[:width] = 0
    for at in range(indptr[row], indptr[row + 1]):
        e = E[features[at]]
        for c in range(width):
            out[c] += amounts[at] * e[c]


# a division that is not looked at for zeros can be done on many columns at a time; squares start above zero
@njit(nogil=True, cache=True, fastmath=SUM_MATH, error_model="numpy")
def move(side, row, scale, direction, rate, penalty):
    """Every feature of a row against its gradient, -scale * amount * direction + penalty * itself, in steps of rate
    over the root of the sum of squared gradients (Duchi, Hazan, Singer 2011)."""
    indptr, features, amounts, E, S = side
    for at in range(indptr[row], indptr[row + 1]):
        e, s = E[features[at]], S[features[at]]
        pull = scale * amounts[at]
        for c in range(len(e)):
            g = penalty * e[c] - pull * direction[c]
            squares = s[c] + g * g
            s[c] = squares
            e[c] -= rate * g / np.sqrt(squares)


@njit(nogil=True, cache=True)
def _pair(users, items, u, i, j, x, yi, yj, scale, rate, penalty):
    """One step that lifts i above j for u; x, yi and yj are as before it."""
    yi -= yj
    move(users, u, scale, yi, rate, penalty)
    move(items, i, scale, x, rate, penalty)
    move(items, j, -scale, x, rate, penalty)


@njit(nogil=True, cache=True)
def _single(users, items, u, i, x, y, pull, rate, penalty):
    move(users, u, pull, y, rate, penalty)
    move(items, i, pull, x, rate, penalty)


@njit(nogil=True, cache=True)
def feature_epoch(
    lo, hi, indptr, indices, block_of, own, block, users, items, rate, penalty, seed, loss, margin, trials, n_items
):
    """One step for every cell (u, i) of users lo to hi whose item is of a block, against items of the block (`own`)
    that u does not have: one, by the pairwise logistic loss; the first of at most `trials` within the margin, weighted
    by log(1 + floor((n_items - 1) / draws)); or `trials` of them, by the logistic loss. x has a last column of ones
    for the items' bias. Answers the sum of the losses before the steps."""
    width = items[3].shape[1]
    x, yi, yj = np.ones(width, np.float32), np.empty(width, np.float32), np.empty(width, np.float32)
    total = 0.0
    for u in range(lo, hi):
        start, stop = indptr[u], indptr[u + 1]
        state = _start(seed, u)
        for at in range(start, stop):
            i = indices[at]
            if block_of[i] != block:
                continue
            add_up(users, u, x)
            add_up(items, i, yi)
            score = _product(x, yi)
            if loss == SINGLE:
                total += np.log1p(np.exp(-abs(score))) + max(-score, np.float32(0))
                _single(users, items, u, i, x, yi, np.float32(1 / (1 + np.exp(score))), rate, penalty)
            for drawn in range(1, trials + 1):
                state, j = unseen(state, own, indices, start, stop)
                if j < 0:
                    break
                if loss == SINGLE:
                    add_up(users, u, x)
                add_up(items, j, yj)
                other = _product(x, yj)
                if loss == PAIRWISE:
                    short = other - score
                    total += np.log1p(np.exp(-abs(short))) + max(short, np.float32(0))
                    _pair(users, items, u, i, j, x, yi, yj, np.float32(1 / (1 + np.exp(-short))), rate, penalty)
                    break
                if loss == RANKED and margin - score + other > 0:
                    weight = np.float32(np.log(1 + (n_items - 1) // drawn))
                    total += weight * (margin - score + other)
                    _pair(users, items, u, i, j, x, yi, yj, weight, rate, penalty)
                    break
                if loss == SINGLE:
                    total += np.log1p(np.exp(-abs(other))) + max(other, np.float32(0))
                    _single(users, items, u, j, x, yj, np.float32(-1 / (1 + np.exp(-other))), rate, penalty)
    return total
