"""How sure a figure is: bootstrap over users."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

RESAMPLES = 1000
LEVEL = 0.95
BLOCK_CELLS = 4_000_000


@dataclass(frozen=True)
class Interval:
    """A mean over users and its 95 % interval."""

    mean: float
    low: float
    high: float


def bootstrap_means(figures: np.ndarray, seed: int) -> np.ndarray:
    """Means of resampled users: float64 (RESAMPLES, n_columns), from figures of shape (n_users, n_columns).

    Every column is resampled with the same users, so differences of columns are paired. Efron 1979.
    """
    n = len(figures)
    random = np.random.Generator(np.random.PCG64(seed))
    means = np.empty((RESAMPLES, figures.shape[1]))
    block = max(1, BLOCK_CELLS // n)
    for lo in range(0, RESAMPLES, block):
        hi = min(lo + block, RESAMPLES)
        drawn = random.integers(0, n, size=(hi - lo, n))
        for row in range(lo, hi):
            counts = np.bincount(drawn[row - lo], minlength=n)
            means[row] = counts @ figures / n
    return means


def intervals(figures: np.ndarray, seed: int) -> list[Interval]:
    """Percentile interval of the mean of each column of figures, shape (n_users, n_columns)."""
    means = bootstrap_means(figures, seed)
    edges = np.quantile(means, [(1 - LEVEL) / 2, (1 + LEVEL) / 2], axis=0)
    return [
        Interval(float(mean), float(low), float(high))
        for mean, low, high in zip(figures.mean(axis=0), edges[0], edges[1], strict=True)
    ]


def paired_difference(mine: np.ndarray, other: np.ndarray, seed: int) -> Interval:
    """Interval of the mean of mine - other, user by user: both float64 (n_users,)."""
    return intervals((mine - other)[:, None], seed)[0]
