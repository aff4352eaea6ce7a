"""Contenders compared user by user: every pair, each against the baseline, and with and without a part."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.statistics import Difference, compare_all, paired_difference
from gleaner.core.metrics.verdicts import oriented, sentences

VALUES_BY_USER = (
    "Differences of {metric} are means over users, each by the {metric} of their own values; the figures of the board "
    "are of all values together, so they need not differ by as much."
)
EFFECTS: dict[str, Literal["helps", "harms", "cannot tell"]] = {
    "better": "helps",
    "worse": "harms",
    "cannot tell": "cannot tell",
}


@dataclass(frozen=True)
class AgainstBaseline:
    """The paired difference to the baseline on the deciding metric of the test part."""

    difference: float
    low: float
    high: float
    verdict: Literal["better", "worse", "cannot tell", "baseline"]


@dataclass(frozen=True)
class AblationEffect:
    """What one part adds: the contender that has it less the one that lacks it."""

    gap: Difference
    lacks: str
    verdict: Literal["helps", "harms", "cannot tell"]


@dataclass(frozen=True)
class PairedComparison:
    """Every pair of contenders on one metric, and what that comes to, in sentences."""

    metric: str
    leader: str
    pairs: list[Difference]
    sentences: list[str]
    ablations: list[AblationEffect] = field(default_factory=list)


def compared(
    figures: dict[str, np.ndarray],
    metric: MetricReference,
    seed: int,
    baseline: str,
    lacking: list[tuple[str, str, str]],
) -> PairedComparison | None:
    """Every pair of contenders on a metric. None where nobody has it per user.

    figures: float64 (n_users,) by label, users in the same order, NaN where one has no figure. lacking: contenders that
    are others but for one part: label, the other's label, the part.
    """
    averages = {label: float(np.nanmean(values)) for label, values in figures.items() if not np.isnan(values).all()}
    if not averages:
        return None
    leader = max(averages, key=lambda label: (metric.sign or 1) * averages[label])
    pairs = compare_all({label: figures[label] for label in averages}, metric.sign, seed)
    summary = sentences(averages, pairs, metric.label, leader, baseline) if metric.sign else []
    if summary and metric.of_values:
        summary.append(VALUES_BY_USER.format(metric=metric.label))
    ablations = [
        _effect(oriented(pairs, whole, label), lacks)
        for label, whole, lacks in lacking
        if {label, whole} <= set(averages)
    ]
    return PairedComparison(metric.label, leader, pairs, summary, ablations)


def _effect(gap: Difference, lacks: str) -> AblationEffect:
    return AblationEffect(gap, lacks, EFFECTS[gap.verdict])


def against_baseline(mine: np.ndarray | None, baseline: np.ndarray | None, sign: int, seed: int) -> AgainstBaseline:
    """A contender beside the baseline, by itself: float64 (n_users,) each, users in the same order. None: the metric
    has no figure per user, so nothing can be told."""
    if mine is None or baseline is None:
        return AgainstBaseline(0.0, 0.0, 0.0, "cannot tell")
    gap = paired_difference(mine, baseline, seed)
    assert gap.low is not None
    assert gap.high is not None
    low, high = sorted((sign * gap.low, sign * gap.high))
    return AgainstBaseline(gap.mean, gap.low, gap.high, "better" if low > 0 else "worse" if high < 0 else "cannot tell")
