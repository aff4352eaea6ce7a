"""Which contender to release: the best, or of all that cannot be told from it the best in something else."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gleaner.core.metrics.frontier import on_frontier
from gleaner.core.metrics.statistics import compare_all
from gleaner.core.metrics.verdicts import oriented


@dataclass(frozen=True)
class Candidate:
    """A contender that may be chosen: its figure of the deciding metric, and of what that is weighed against, if
    anything and if it has one."""

    label: str
    figure: float
    against: float | None = None


@dataclass(frozen=True)
class WeighedCandidate:
    """A candidate beside the others. on_frontier: no other is better in one and as good in the other; level: it cannot
    be told from the best."""

    candidate: Candidate
    on_frontier: bool
    level: bool


def level_with(winner: str, by_user: dict[str, np.ndarray], sign: int, seed: int) -> set[str]:
    """The winner and who cannot be told from it, by paired comparison of figures per user, float64 (n_users,) each,
    corrected for all pairs."""
    there = {label: values for label, values in by_user.items() if not np.isnan(values).all()}
    if winner not in there:
        return {winner}
    pairs = compare_all(there, sign, seed)
    others = (label for label in there if label != winner)
    return {winner, *(label for label in others if oriented(pairs, winner, label).verdict != "better")}


def weighed(candidates: list[Candidate], level: set[str], sign: int, against_sign: int) -> list[WeighedCandidate]:
    """The candidates, best first. sign, against_sign: 1 where more is better, -1 where less is, of the deciding metric
    and of what it is weighed against; 0: it is weighed against nothing."""
    ranked = sorted(candidates, key=lambda each: -sign * each.figure)
    first = np.array([sign * each.figure for each in ranked])
    if against_sign:
        second = np.array([np.nan if each.against is None else against_sign * each.against for each in ranked])
        edge = on_frontier(first, second)
    else:
        edge = first == first.max(initial=-np.inf)
    return [WeighedCandidate(each, bool(edge[place]), each.label in level) for place, each in enumerate(ranked)]


def best_in_level(ranked: list[WeighedCandidate], against_sign: int, winner: str) -> str:
    """Of those that are level the best in what they are weighed against; of equals the one that stands higher."""
    level = [each.candidate for each in ranked if each.level and each.candidate.against is not None]
    best = max(level, key=lambda each: against_sign * (each.against or 0.0), default=None)
    return winner if best is None else best.label
