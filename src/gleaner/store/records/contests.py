"""Runs of contests, and the standings of their contenders."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from gleaner.wire.contests.contest import ContestSpec, PrepareSpec
from gleaner.wire.contests.runs import BaselineDifference, ContestComparison, PartReport, StepReport
from gleaner.wire.contests.tuning import TuningResult
from gleaner.wire.jobs import JobState
from gleaner.wire.models.training import Round


@dataclass(frozen=True)
class FigureRecord:
    """One metric of one contender on one part: the mean, and its interval where users have figures of their own."""

    metric: str
    part: str
    mean: float
    low: float | None
    high: float | None


@dataclass(frozen=True, kw_only=True)
class StandingRecord:
    """One contender's results. prepare, tuning: None where it has the contest's preparation and was not tuned."""

    contender: str
    family: str
    params: dict[str, Any]
    model: str | None
    figures: list[FigureRecord]
    against_popular: BaselineDifference | None
    fit_seconds: float
    evaluate_seconds: float
    peak_memory_mb: float
    list_ms: float | None
    prepare: PrepareSpec | None
    tuning: TuningResult | None

    def figure(self, metric: str, part: str = "test") -> FigureRecord | None:
        """One figure by name."""
        return next((each for each in self.figures if each.metric == metric and each.part == part), None)


@dataclass(frozen=True, kw_only=True)
class AttemptRecord:
    """One setting of a tuned contender that was tried. number: from 1. chosen: the parameters that vary."""

    number: int
    chosen: dict[str, Any]
    state: Literal["done", "pruned", "failed"]
    value: float | None
    figures: dict[str, float]
    training_loss: float | None
    validation_loss: float | None
    rounds: list[Round]
    seconds: float
    message: str | None


@dataclass(frozen=True, kw_only=True)
class AmountRecord:
    """The deciding metric of a fit on a share of the training cells."""

    share: float
    cells: int
    mean: float
    low: float | None
    high: float | None
    seconds: float


@dataclass(frozen=True, kw_only=True)
class RunSummaryRecord:
    """One run in a list. contenders: how many."""

    name: str
    contest: str
    number: int
    data: str
    state: JobState
    job: int
    created_at: datetime
    decide_by: str
    winner: str | None
    contenders: int


@dataclass(frozen=True, kw_only=True)
class RunRecord(RunSummaryRecord):
    """One run with its standings, the best first. id: of the row. comparison: None until the run is done."""

    id: int
    file: str
    spec: ContestSpec
    preparation: list[StepReport]
    parts: list[PartReport]
    standings: list[StandingRecord]
    comparison: ContestComparison | None
