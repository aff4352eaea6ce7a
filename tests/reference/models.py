"""Dense, loop-by-loop models."""

from __future__ import annotations

import numpy as np


def weights_of(dense: np.ndarray, observed: np.ndarray, weighting: str) -> np.ndarray:
    """Weights over their mean, zero where nothing was observed."""
    raw = {"value": dense, "log": np.log(1 + dense), "binary": np.ones_like(dense)}[weighting]
    raw = np.where(observed, raw, 0.0)
    return raw if weighting == "binary" else raw / raw[observed].mean()


def als_half_step(weights, observed, Y, a0, reg, power):
    """The exact minimiser of the objective over one side, row by row, by a dense solve."""
    n_other, rank = Y.shape
    X = np.zeros((len(weights), rank))
    for u in range(len(weights)):
        seen = np.flatnonzero(observed[u])
        if len(seen) == 0:
            continue
        ridge = reg * (len(seen) + a0 * n_other) ** power
        A = ridge * np.eye(rank)
        b = np.zeros(rank)
        for i in range(n_other):
            A += a0 * np.outer(Y[i], Y[i])
        for i in seen:
            A += weights[u, i] * np.outer(Y[i], Y[i])
            b += weights[u, i] * Y[i]
        X[u] = np.linalg.solve(A, b)
    return X


def als_objective(weights, observed, X, Y, a0, reg, power):
    """The objective, cell by cell."""
    total = 0.0
    for u in range(len(X)):
        for i in range(len(Y)):
            fit = float(X[u] @ Y[i])
            total += a0 * fit**2
            if observed[u, i]:
                total += weights[u, i] * (1 - fit) ** 2
    for side, counts, n_other in ((X, observed.sum(1), len(Y)), (Y, observed.sum(0), len(X))):
        for row, count in zip(side, counts, strict=True):
            total += reg * (count + a0 * n_other) ** power * float(row @ row)
    return total


def knn_scores(dense, observed, k, shrinkage):
    """Item-item cosine scores: for every user and item the sum over the item's k nearest that the user has."""
    n_users, n_items = dense.shape
    x = np.where(observed, dense, 0.0)
    alike = np.zeros((n_items, n_items))
    for i in range(n_items):
        for j in range(n_items):
            dot = sum(x[u, i] * x[u, j] for u in range(n_users))
            norms = np.sqrt((x[:, i] ** 2).sum()) * np.sqrt((x[:, j] ** 2).sum())
            if i != j and dot > 0:
                alike[i, j] = dot / (norms + shrinkage)
    scores = np.zeros((n_users, n_items))
    for i in range(n_items):
        nearest = sorted((j for j in range(n_items) if alike[i, j] > 0), key=lambda j: -alike[i, j])[:k]
        for u in range(n_users):
            scores[u, i] = sum(x[u, j] * alike[i, j] for j in nearest)
    return scores


def linear_weights(x, regularisation, dropout):
    """Column i: the ridge regression of item i on all other items, solved by itself."""
    n_items = x.shape[1]
    weights = np.zeros((n_items, n_items))
    for i in range(n_items):
        others = [j for j in range(n_items) if j != i]
        a = x[:, others]
        penalty = np.diag([regularisation + dropout / (1 - dropout) * (x[:, j] ** 2).sum() for j in others])
        weights[others, i] = np.linalg.solve(a.T @ a + penalty, a.T @ x[:, i])
    return weights
