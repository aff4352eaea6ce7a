"""The engine behind contests: every contender of a plan on the same parts, compared.

Pure: it is given its data and a listener, which measures what fits take and keeps what a crash must not lose.

"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from gleaner.core.contests.comparison import compared
from gleaner.core.contests.contest import Contest
from gleaner.core.contests.fits import run_contender
from gleaner.core.contests.listening import ProgressStretch
from gleaner.core.contests.plan import Contender
from gleaner.core.contests.results import ContestOutcome
from gleaner.core.errors import DataError
from gleaner.core.metrics.verdicts import oriented
from gleaner.core.models.base.registry import build
from gleaner.core.tuning.space import settled

LEAST_EFFORT = 1e6
"""Operations that every contender takes, however small."""


def run_contest(
    contest: Contest, start: float = 0.0, end: float = 1.0, expected: Mapping[str, float] | None = None
) -> ContestOutcome:
    """Run every contender that is not known yet, the baseline first; then decide who is best, and compare every pair.

    start, end: its stretch of the progress. expected: seconds by label, which divide that stretch; without those of
    every contender it is divided by the count of operations. Raises DataError if tuning has no validation part.
    """
    contenders = contest.plan.in_order()
    if contest.parts.validation is None and any(each.search for each in contenders):
        raise DataError("tuning decides on the validation part, and this split has none", where="split")
    edges = _edges(_efforts(contest, contenders, expected or {}), start, end)
    for contender, low, high in zip(contenders, edges, edges[1:], strict=False):
        if contender.label in contest.known:
            contest.listener.log(f"{contender.label}: finished in an earlier attempt")
            continue
        contest.listener.keep(run_contender(contest, contender, ProgressStretch(contest.listener, low, high)))
    return outcome_of(contest)


def outcome_of(contest: Contest) -> ContestOutcome:
    """Who is best of the contenders that are done, and every pair on the deciding metric."""
    plan = contest.plan
    by_user = {label: each for label in contest.labels if (each := contest.known[label].by_user) is not None}
    comparison = compared(by_user, plan.decide_by, plan.seed, plan.baseline, plan.ablations())
    if comparison is None:
        return ContestOutcome(contest.winner(), None)
    compared_with = {each.first for each in comparison.pairs} | {each.second for each in comparison.pairs}
    others = [label for label in by_user if label != plan.baseline and {label, plan.baseline} <= compared_with]
    verdicts = {label: oriented(comparison.pairs, label, plan.baseline).verdict for label in others}
    return ContestOutcome(contest.winner(), comparison, verdicts)


def _edges(efforts: list[float], start: float, end: float) -> list[float]:
    """Return where each contender's stretch of the progress begins and ends."""
    return [float(edge) for edge in start + (end - start) * np.cumsum([0.0, *efforts]) / sum(efforts)]


def _efforts(contest: Contest, contenders: list[Contender], expected: Mapping[str, float]) -> list[float]:
    """Return what each contender takes, in seconds if those of all are expected, else in operations."""
    if all(expected.get(each.label, 0.0) > 0 for each in contenders):
        return [expected[each.label] for each in contenders]
    matrix = contest.parts.final
    efforts = []
    for contender in contenders:
        model = build(contender.family, settled(contender.family, contender.params))
        attempts = contender.search.attempts if contender.search and contender.ablates is None else 0
        cost = model.cost(model.params(), matrix.shape, matrix.n_cells)
        efforts.append((2 + attempts) * (LEAST_EFFORT + cost.operations))
    return efforts
