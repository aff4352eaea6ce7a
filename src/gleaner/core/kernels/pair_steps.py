"""Gradient steps of ranking losses on implicit feedback. Each touches some users and one block of items."""

import numpy as np
from numba import njit

from gleaner.core.kernels import SUM_MATH

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)
_MIX_A, _MIX_B = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
_S30, _S27, _S31, _S33 = np.uint64(30), np.uint64(27), np.uint64(31), np.uint64(33)


@njit(nogil=True, cache=True, inline="always")
def draw(state, n):
    """The next state of a SplitMix64 generator and a whole number below n from it (Steele, Lea, Flood 2014)."""
    state = state + _GOLDEN
    z = (state ^ (state >> _S30)) * _MIX_A
    z = (z ^ (z >> _S27)) * _MIX_B
    z = z ^ (z >> _S31)
    return state, np.int64(((z >> _S33) * np.uint64(n)) >> _S31)


@njit(nogil=True, cache=True, inline="always")
def has(indices, lo, hi, item):
    """Whether an item stands in an ascending stretch."""
    while lo < hi:
        middle = (lo + hi) // 2
        if indices[middle] < item:
            lo = middle + 1
        else:
            hi = middle
    return lo, indices[lo] == item


@njit(nogil=True, cache=True, inline="always")
def _start(seed, user):
    return np.uint64(seed) * _MIX_A + np.uint64(user) * _GOLDEN


@njit(nogil=True, cache=True)
def unseen(state, items, indices, lo, hi):
    """The generator's next state, and an item of a block that is not in a user's history, or -1 after 20 draws."""
    last = hi - 1
    for _ in range(20):
        state, place = draw(state, len(items))
        item = items[place]
        _, seen = has(indices, lo, last, item)
        if not seen:
            return state, item
    return state, np.int32(-1)


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _product(x, y):
    total = np.float32(0)
    for f in range(len(x)):
        total += x[f] * y[f]
    return total


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _pair_step(x, yi, yj, scale, rate, penalty):
    """x, y_i, y_j moved along scale * (y_i - y_j, x, -x) less penalty times themselves; the last column of x is 1 and
    stays, that of the items is their bias."""
    width = len(x)
    for f in range(width - 1):
        before, difference = x[f], yi[f] - yj[f]
        x[f] += rate * (scale * difference - penalty * before)
        yi[f] += rate * (scale * before - penalty * yi[f])
        yj[f] += rate * (-scale * before - penalty * yj[f])
    last = width - 1
    yi[last] += rate * (scale - penalty * yi[last])
    yj[last] += rate * (-scale - penalty * yj[last])


@njit(nogil=True, cache=True)
def pair_epoch(lo, hi, indptr, indices, block_of, items, block, X, Y, rate, penalty, seed):
    """Bayesian personalised ranking: for each cell (u, i) of the block one item j of it that u does not have, and
    a step on log(1 + exp(-(x_u.y_i - x_u.y_j))) + 0.5 penalty |.|^2. Answers the sum of the losses before the steps."""
    total = 0.0
    for u in range(lo, hi):
        start, stop = indptr[u], indptr[u + 1]
        state = _start(seed, u)
        x = X[u]
        for at in range(start, stop):
            i = indices[at]
            if block_of[i] != block:
                continue
            state, j = unseen(state, items, indices, start, stop)
            if j < 0:
                continue
            margin = _product(x, Y[i]) - _product(x, Y[j])
            chance = np.float32(1 / (1 + np.exp(margin)))
            total += np.log1p(np.exp(-abs(margin))) + max(-margin, np.float32(0))
            _pair_step(x, Y[i], Y[j], chance, rate, penalty)
    return total


@njit(nogil=True, cache=True)
def warp_epoch(lo, hi, indptr, indices, block_of, items, block, X, Y, rate, penalty, seed, margin, trials, n_items):
    """Weighted approximate-rank pairwise loss: for each cell (u, i) items j are drawn until one scores above i less the
    margin; the step on margin - x_u.y_i + x_u.y_j is weighted by log(1 + (n_items - 1) / draws), an estimate of
    what i's rank costs. Answers the sum of the weighted losses."""
    total = 0.0
    for u in range(lo, hi):
        start, stop = indptr[u], indptr[u + 1]
        state = _start(seed, u)
        x = X[u]
        for at in range(start, stop):
            i = indices[at]
            if block_of[i] != block:
                continue
            score = _product(x, Y[i])
            for drawn in range(1, trials + 1):
                state, j = unseen(state, items, indices, start, stop)
                if j < 0:
                    break
                short = margin - score + _product(x, Y[j])
                if short > 0:
                    weight = np.float32(np.log(1 + (n_items - 1) // drawn))
                    total += weight * short
                    _pair_step(x, Y[i], Y[j], weight, rate, penalty)
                    break
    return total


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _single_step(x, y, pull, rate, penalty):
    width = len(x)
    for f in range(width - 2):
        before = x[f]
        x[f] += rate * (pull * y[f] - penalty * before)
        y[f] += rate * (pull * before - penalty * y[f])
    x[width - 2] += rate * (pull - penalty * x[width - 2])
    y[width - 1] += rate * (pull - penalty * y[width - 1])


@njit(nogil=True, cache=True)
def logistic_epoch(lo, hi, indptr, indices, weights, block_of, items, block, X, Y, rate, penalty, seed, negatives):
    """Logistic loss: a step on w_ui log(1 + exp(-s)) for each cell of the block, and one on log(1 + exp(s)) for each of
    `negatives` items of the block that the user does not have; s = x_u.y_i with the user's bias in the last column but
    one and the item's in the last. Answers the sum of the losses before the steps."""
    total = 0.0
    for u in range(lo, hi):
        start, stop = indptr[u], indptr[u + 1]
        state = _start(seed, u)
        x = X[u]
        for at in range(start, stop):
            i = indices[at]
            if block_of[i] != block:
                continue
            score = _product(x, Y[i])
            total += weights[at] * (np.log1p(np.exp(-abs(score))) + max(-score, np.float32(0)))
            _single_step(x, Y[i], np.float32(weights[at] / (1 + np.exp(score))), rate, penalty)
            for _ in range(negatives):
                state, j = unseen(state, items, indices, start, stop)
                if j < 0:
                    continue
                score = _product(x, Y[j])
                total += np.log1p(np.exp(-abs(score))) + max(score, np.float32(0))
                _single_step(x, Y[j], np.float32(-1 / (1 + np.exp(-score))), rate, penalty)
    return total
