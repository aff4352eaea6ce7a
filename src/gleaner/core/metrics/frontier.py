"""Which of several candidates none other beats in two figures at once."""

from __future__ import annotations

import numpy as np


def on_frontier(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """Of float64 (n,) figures, more being better in both: bool (n,), True where no other is at least as good in both
    and better in one (the Pareto frontier). NaN is never on it."""
    there = ~(np.isnan(first) | np.isnan(second))
    at_least = (first[None, :] >= first[:, None]) & (second[None, :] >= second[:, None])
    better = (first[None, :] > first[:, None]) | (second[None, :] > second[:, None])
    return there & ~(at_least & better & there[None, :]).any(axis=1)
