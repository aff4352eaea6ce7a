"""How sure a figure is, and a difference of two: bootstrap over users, paired tests, correction for many."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import Literal

import numpy as np
from scipy import special

RESAMPLES = 1000
LEVEL = 0.95
BLOCK_CELLS = 4_000_000

Verdict = Literal["better", "worse", "cannot tell"]


@dataclass(frozen=True)
class Interval:
    """A mean over users and its 95 % interval; None where all lists have one figure together."""

    mean: float
    low: float | None
    high: float | None


@dataclass(frozen=True)
class Difference:
    """One contender less another, user by user. better says whether the first is, as the metric's way is.

    low, high: 95 % bootstrap interval. p: two-sided paired t-test. p_holm: the same corrected for all pairs compared.
    users: those with a figure from both.
    """

    first: str
    second: str
    mean: float
    low: float
    high: float
    p: float
    p_holm: float
    users: int
    verdict: Verdict


def bootstrap_means(figures: np.ndarray, seed: int) -> np.ndarray:
    """Means of resampled users: float64 (RESAMPLES, n_columns), from figures of shape (n_users, n_columns).

    Every column is resampled with the same users, so differences of columns are paired. NaN: that user has no figure
    and does not count in that column. Efron 1979.
    """
    n = len(figures)
    there = ~np.isnan(figures)
    whole = bool(there.all())
    filled = np.ascontiguousarray(figures if whole else np.where(there, figures, 0.0))
    counted = there.astype(np.float64)
    random = np.random.Generator(np.random.PCG64(seed))
    means = np.empty((RESAMPLES, figures.shape[1]))
    block = max(1, BLOCK_CELLS // n)
    for lo in range(0, RESAMPLES, block):
        hi = min(lo + block, RESAMPLES)
        drawn = random.integers(0, n, size=(hi - lo, n))
        times = np.stack([np.bincount(row, minlength=n) for row in drawn]).astype(np.float64)
        with np.errstate(invalid="ignore"):
            means[lo:hi] = (times @ filled) / (n if whole else times @ counted)
    return means


def intervals(figures: np.ndarray, seed: int) -> list[Interval]:
    """Percentile interval of the mean of each column of figures, shape (n_users, n_columns); NaN counts nowhere.

    A column of NaN only has NaN for a mean and no interval.
    """
    edges = np.nanquantile if np.isnan(figures).any() else np.quantile
    empty = np.isnan(figures).all(axis=0)
    with_value = figures[:, ~empty]
    means = iter(
        zip(np.nanmean(with_value, axis=0), *edges(bootstrap_means(with_value, seed), _EDGES, axis=0), strict=True)
    )
    none = Interval(float("nan"), None, None)
    return [none if column else Interval(*map(float, next(means))) for column in empty]


def intervals_each(columns: list[np.ndarray], seed: int) -> list[Interval]:
    """Percentile interval of the mean of each column by itself: float64 (n_users,), users of its own, no NaN.

    The figures are those of `intervals` column by column. Columns of as many users are resampled once for all, for
    their resamples would be the same ones; drawing them is nearly all of the work.
    """
    found: dict[int, Interval] = {}
    for length in {len(column) for column in columns}:
        places = [place for place, column in enumerate(columns) if len(column) == length]
        table = np.column_stack([columns[place] for place in places])
        found |= dict(zip(places, intervals(table, seed), strict=True))
    return [found[place] for place in range(len(columns))]


_EDGES = [(1 - LEVEL) / 2, (1 + LEVEL) / 2]


def paired_difference(mine: np.ndarray, other: np.ndarray, seed: int) -> Interval:
    """Interval of the mean of mine - other, user by user: both float64 (n_users,)."""
    return intervals((mine - other)[:, None], seed)[0]


def compare_all(figures: dict[str, np.ndarray], sign: int, seed: int) -> list[Difference]:
    """Every pair of contenders on one metric, from their figures per user: float64 (n_users,), users in one order.

    sign: 1 where more is better, -1 where less is. A difference is called real where the p corrected for all these
    pairs (Holm 1979) is below 0.05. Paired t-test: Smucker, Allan, Carterette 2007 find it agrees with randomisation.
    """
    if len(figures) < 2:
        return []
    columns = np.column_stack(list(figures.values()))
    pairs = list(combinations(range(columns.shape[1]), 2))
    gaps = [columns[:, first] - columns[:, second] for first, second in pairs]
    chances = [_chance(gap[~np.isnan(gap)]) for gap in gaps]
    corrected = holm(np.array(chances))
    names = list(figures)
    differences = []
    for (first, second), gap, p, p_holm, interval in zip(
        pairs, gaps, chances, corrected, _pair_intervals(columns, pairs, gaps, seed), strict=True
    ):
        real = p_holm < 1 - LEVEL and sign != 0
        verdict: Verdict = "cannot tell" if not real else "better" if interval.mean * sign > 0 else "worse"
        assert interval.low is not None
        assert interval.high is not None
        users = int((~np.isnan(gap)).sum())
        differences.append(
            Difference(
                first=names[first],
                second=names[second],
                mean=interval.mean,
                low=interval.low,
                high=interval.high,
                p=p,
                p_holm=float(p_holm),
                users=users,
                verdict=verdict,
            )
        )
    return differences


def _pair_intervals(
    columns: np.ndarray, pairs: list[tuple[int, int]], gaps: list[np.ndarray], seed: int
) -> list[Interval]:
    """Intervals of all differences. Where everyone has every figure, one set of resamples does for all pairs."""
    if np.isnan(columns).any():
        return [intervals(gap[~np.isnan(gap)][:, None], seed)[0] for gap in gaps]
    means = bootstrap_means(columns, seed)
    intervals = []
    for (first, second), gap in zip(pairs, gaps, strict=True):
        low, high = np.quantile(means[:, first] - means[:, second], _EDGES)
        intervals.append(Interval(float(gap.mean()), float(low), float(high)))
    return intervals


def _chance(gap: np.ndarray) -> float:
    """Two-sided p of the paired t-test; users who differ alike leave no doubt, users who do not differ leave all."""
    if len(gap) < 2 or np.ptp(gap) == 0:
        return 0.0 if len(gap) > 1 and gap[0] != 0 else 1.0
    t = gap.mean() / np.sqrt(gap.var(ddof=1) / len(gap))
    return float(2 * special.stdtr(len(gap) - 1, -abs(t)))


def holm(chances: np.ndarray) -> np.ndarray:
    """p values corrected for being many: the i-th smallest of m times (m - i + 1), never falling. Holm 1979."""
    order = np.argsort(chances)
    m = len(chances)
    steps = np.minimum(np.maximum.accumulate(chances[order] * (m - np.arange(m))), 1.0)
    corrected = np.empty(m)
    corrected[order] = steps
    return corrected
