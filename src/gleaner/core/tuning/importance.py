"""Which parameters of a search mattered: the share of the metric's variance that each explains, with its interval."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from gleaner.core.tuning.space import Between, Range

LEVELS = 3
"""Groups of about equal size that the values of a numeric parameter are put into."""
MIN_ATTEMPTS, ATTEMPTS_PER_COLUMN = 20, 4
"""Finished attempts below which nothing is reported: 20, or four for each column of the additive model if more."""
RESAMPLES = 400


@dataclass(frozen=True)
class Effect:
    """Share of the variance between attempts that one parameter explains, and its 95 % interval: 0 to 1."""

    share: float
    low: float
    high: float


def main_effects(
    settings: Sequence[Mapping[str, Any]], values: np.ndarray, ranges: Mapping[str, Range], seed: int
) -> dict[str, Effect]:
    """Return the effect of each parameter, the largest first; nothing for too few attempts or equal values.

    values: the deciding metric of each finished attempt, float64 (n,). An additive model of group means is fitted by
    least squares. A parameter's share is omega squared (Hays 1963) of leaving it out of that model; on a full grid this
    is the analysis of variance. What the shares leave is interaction and noise. Intervals: percentile bootstrap over
    attempts.
    """
    groups = {name: _groups([each[name] for each in settings], values_range) for name, values_range in ranges.items()}
    columns = {name: _columns(codes) for name, codes in groups.items()}
    columns = {name: part for name, part in columns.items() if part.shape[1]}
    n_columns = sum(part.shape[1] for part in columns.values())
    if len(values) < max(MIN_ATTEMPTS, ATTEMPTS_PER_COLUMN * n_columns) or np.ptp(values) == 0:
        return {}
    shares = _shares(columns, values)
    random = np.random.default_rng(seed)
    drawn = np.empty((RESAMPLES, len(columns)))
    for row in range(RESAMPLES):
        some = random.integers(len(values), size=len(values))
        drawn[row] = _shares({name: part[some] for name, part in columns.items()}, values[some])
    low, high = np.nanpercentile(drawn, (2.5, 97.5), axis=0)
    effects = {
        name: Effect(float(share), float(min(share, lowest)), float(max(share, highest)))
        for name, share, lowest, highest in zip(columns, shares, low, high, strict=True)
    }
    return dict(sorted(effects.items(), key=lambda each: -each[1].share))


def _groups(tried: list[Any], values_range: Range) -> np.ndarray:
    """Return the group of each value: int (n,). Choices are groups; numbers are cut at quantiles of what was tried."""
    if not isinstance(values_range, Between):
        return np.array([values_range.values.index(value) for value in tried])
    numbers = np.array(tried, dtype=np.float64)
    distinct = np.unique(numbers)
    if len(distinct) <= LEVELS:
        return np.searchsorted(distinct, numbers)
    edges = np.quantile(numbers, np.arange(1, LEVELS) / LEVELS)
    return np.searchsorted(edges, numbers, side="right")


def _columns(codes: np.ndarray) -> np.ndarray:
    """Return indicators of all groups but the first: float64 (n, n_groups - 1)."""
    present = np.unique(codes)
    return (codes[:, None] == present[None, 1:]).astype(np.float64)


def _shares(columns: Mapping[str, np.ndarray], values: np.ndarray) -> np.ndarray:
    """Return omega squared of each parameter, 0 to 1; NaN if all values are equal."""
    total = float(((values - values.mean()) ** 2).sum())
    if total == 0:
        return np.full(len(columns), np.nan)
    whole = np.column_stack([np.ones(len(values)), *columns.values()])
    n_free = max(1, len(values) - np.linalg.matrix_rank(whole))
    left = _residual(whole, values)
    noise = left / n_free
    shares = []
    for name, part in columns.items():
        others = np.column_stack([np.ones(len(values)), *(each for other, each in columns.items() if other != name)])
        explained = _residual(others, values) - left
        shares.append((explained - part.shape[1] * noise) / (total + noise))
    return np.clip(shares, 0, 1)


def _residual(design: np.ndarray, values: np.ndarray) -> float:
    """Return the sum of squared residuals of a least squares fit."""
    fitted = design @ np.linalg.lstsq(design, values, rcond=None)[0]
    return float(((values - fitted) ** 2).sum())
