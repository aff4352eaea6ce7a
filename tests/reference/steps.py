"""Gradient steps in plain loops of float64, derived from the losses as the papers write them."""

from __future__ import annotations

import math

import numpy as np

MASK = 2**64 - 1


def numbers(seed: int, user: int):
    """31-bit numbers of a SplitMix64 generator that starts from seed and user (Steele, Lea, Flood 2014)."""
    state = (seed * 0xBF58476D1CE4E5B9 + user * 0x9E3779B97F4A7C15) & MASK
    while True:
        state = (state + 0x9E3779B97F4A7C15) & MASK
        z = ((state ^ (state >> 30)) * 0xBF58476D1CE4E5B9) & MASK
        z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & MASK
        yield (z ^ (z >> 31)) >> 33


def lacking(drawn, items, history):
    """An item that a user lacks, of 20 draws; None where all are theirs."""
    for _ in range(20):
        item = items[(next(drawn) * len(items)) >> 31]
        if item not in history:
            return item
    return None


def pair_gradient(x, yi, yj, weight, rate, penalty):
    """A step down weight * (s_j - s_i) + penalty / 2 of the squares, s = x . y; the last column of x stays at 1."""
    dx = weight * (yi - yj) - penalty * x
    di, dj = weight * x - penalty * yi, -weight * x - penalty * yj
    dx[-1] = 0.0
    return x + rate * dx, yi + rate * di, yj + rate * dj


def pairwise_epoch(histories, X, Y, seed, rate, penalty):
    """log(1 + exp(s_j - s_i)) for each item i of a user and one that they lack (Rendle et al. 2009)."""
    total, items = 0.0, list(range(len(Y)))
    for u, history in enumerate(histories):
        drawn = numbers(seed, u)
        for i in history:
            j = lacking(drawn, items, history)
            if j is None:
                continue
            margin = X[u] @ Y[i] - X[u] @ Y[j]
            total += math.log(1 + math.exp(-margin))
            X[u], Y[i], Y[j] = pair_gradient(X[u], Y[i], Y[j], 1 / (1 + math.exp(margin)), rate, penalty)
    return total


def ranked_epoch(histories, X, Y, seed, rate, penalty, margin, trials):
    """log(1 + (n - 1) / draws) * (margin - s_i + s_j) for the first item drawn that violates it (Weston et al. 2011)."""
    total, items = 0.0, list(range(len(Y)))
    for u, history in enumerate(histories):
        drawn = numbers(seed, u)
        for i in history:
            score = X[u] @ Y[i]
            for trial in range(1, trials + 1):
                j = lacking(drawn, items, history)
                if j is None:
                    break
                short = margin - score + X[u] @ Y[j]
                if short > 0:
                    weight = math.log(1 + (len(Y) - 1) // trial)
                    total += weight * short
                    X[u], Y[i], Y[j] = pair_gradient(X[u], Y[i], Y[j], weight, rate, penalty)
                    break
    return total


def logistic_epoch(histories, weights, X, Y, seed, rate, penalty, negatives):
    """w log(1 + exp(-s)) for a user's items and log(1 + exp(s)) for some that they lack (Johnson 2014). x ends in the
    user's bias and 1, y in 1 and the item's bias."""
    total, items = 0.0, list(range(len(Y)))

    def step(u, i, pull):
        x, y = X[u].copy(), Y[i].copy()
        dx, dy = pull * y - penalty * x, pull * x - penalty * y
        dx[-1] = dy[-2] = 0.0
        X[u], Y[i] = x + rate * dx, y + rate * dy

    for u, history in enumerate(histories):
        drawn = numbers(seed, u)
        for place, i in enumerate(history):
            score, weight = X[u] @ Y[i], weights[u][place]
            total += weight * math.log(1 + math.exp(-score))
            step(u, i, weight / (1 + math.exp(score)))
            for _ in range(negatives):
                j = lacking(drawn, items, history)
                if j is None:
                    continue
                score = X[u] @ Y[j]
                total += math.log(1 + math.exp(score))
                step(u, j, -1 / (1 + math.exp(-score)))
    return total


def value_epoch(histories, values, mean, X, Y, bu, bi, rate, penalty):
    """e^2 / 2 + penalty / 2 of the squares, e = r - mean - b_u - b_i - x . y (Funk 2006)."""
    total = 0.0
    for u, history in enumerate(histories):
        for place, i in enumerate(history):
            miss = values[u][place] - mean - bu[u] - bi[i] - X[u] @ Y[i]
            total += miss**2
            bu[u] += rate * (miss - penalty * bu[u])
            bi[i] += rate * (miss - penalty * bi[i])
            x, y = X[u].copy(), Y[i].copy()
            X[u], Y[i] = x + rate * (miss * y - penalty * x), y + rate * (miss * x - penalty * y)
    return total


def implicit_epoch(order, histories, values, mean, P, Y, Z, bu, bi, rate, penalty):
    """The same with x = p + n^(-1/2) sum of z_j over the user's items (Koren 2008, eq. 15); the z move once a user."""
    total = 0.0
    for u in order:
        history = histories[u]
        if not history:
            continue
        share = 1 / math.sqrt(len(history))
        implied = share * sum(Z[j] for j in history)
        gathered = np.zeros(P.shape[1])
        for place, i in enumerate(history):
            x, y = P[u] + implied, Y[i].copy()
            miss = values[u][place] - mean - bu[u] - bi[i] - x @ y
            total += miss**2
            bu[u] += rate * (miss - penalty * bu[u])
            bi[i] += rate * (miss - penalty * bi[i])
            gathered += miss * y
            Y[i] = y + rate * (miss * x - penalty * y)
            P[u] = P[u] + rate * (miss * y - penalty * P[u])
        for j in history:
            Z[j] = Z[j] + rate * (share * gathered - penalty * Z[j])
    return total
