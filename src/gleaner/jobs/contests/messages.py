"""What the engine finds, as messages, and kept attempts as it knows them."""

from __future__ import annotations

import math

from gleaner.core.contests.comparison import AblationEffect, PairedComparison
from gleaner.core.contests.parts import ContestParts, PartFacts
from gleaner.core.contests.results import ContenderResult, SearchResult, TuningAttempt
from gleaner.core.metrics.statistics import Difference
from gleaner.core.models.base.watching import TrainingRound
from gleaner.jobs.models.story import round_message
from gleaner.store.records.contests import AttemptRecord, FigureRecord, StandingRecord
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.contests.runs import (
    Ablation,
    BaselineDifference,
    ContestComparison,
    LeakReport,
    PairDifference,
    PartReport,
    StepReport,
)
from gleaner.wire.contests.tuning import AmountPoint, Attempt, ParameterEffect, TuningResult
from gleaner.wire.models.training import Round

COUNTED = ("unseen_users", "unseen_items", "known_pairs", "not_relevant")


def step_reports(parts: ContestParts) -> list[StepReport]:
    """What each step did."""
    return [StepReport(**vars(step)) for step in parts.steps]


def part_reports(parts: ContestParts) -> list[PartReport]:
    """What each part holds."""
    return [_part_report(each) for each in parts.facts]


def _part_report(facts: PartFacts) -> PartReport:
    plain = {name: value for name, value in vars(facts).items() if name not in ("leak", "truth")}
    report = PartReport(**plain)
    if facts.leak is not None:
        report.leak = LeakReport(**{name: value for name, value in vars(facts.leak).items() if name != "part"})
    if facts.truth is not None:
        report.users_counted, report.pairs_counted = len(facts.truth.user_rows), len(facts.truth.indices)
        for name in COUNTED:
            setattr(report, name, getattr(facts.truth, name))
    return report


def standing_of(result: ContenderResult, prepare: PrepareSpec | None) -> StandingRecord:
    """A contender's line of the leaderboard. prepare: its own preparation, as the file has it."""
    return StandingRecord(
        contender=result.contender.label,
        family=result.contender.family,
        params=result.model.params(),
        model=None,
        figures=[FigureRecord(each.metric, each.part, **vars(each.interval)) for each in result.figures],
        against_popular=BaselineDifference(**vars(result.against)),
        fit_seconds=result.fit_seconds,
        evaluate_seconds=result.evaluate_seconds,
        peak_memory_mb=result.fit_memory_mb,
        list_ms=result.list_ms,
        prepare=prepare,
        tuning=None if result.search is None else _search_result(result.search),
    )


def amount_points(result: ContenderResult) -> list[AmountPoint]:
    """Its learning curve by amount of data."""
    return [
        AmountPoint(share=each.share, cells=each.cells, seconds=each.seconds, **vars(each.interval))
        for each in result.amounts
    ]


def _search_result(result: SearchResult) -> TuningResult:
    effects = [ParameterEffect(parameter=name, **vars(effect)) for name, effect in result.effects.items()]
    return TuningResult(search=result.method, chosen=result.chosen, stopped_by=result.stopped_by, effects=effects)


def comparison_message(comparison: PairedComparison | None) -> ContestComparison | None:
    """Every pair, and what that comes to."""
    if comparison is None:
        return None
    return ContestComparison(
        metric=comparison.metric,
        leader=comparison.leader,
        pairs=[pair_message(each) for each in comparison.pairs],
        summary=comparison.sentences,
        ablations=[_ablation(each) for each in comparison.ablations],
    )


def pair_message(gap: Difference) -> PairDifference:
    """One pair."""
    plain = {name: value for name, value in vars(gap).items() if name != "mean"}
    return PairDifference(difference=gap.mean, **plain)


def _ablation(effect: AblationEffect) -> Ablation:
    gap = effect.gap
    return Ablation(
        contender=gap.first,
        without=gap.second,
        lacks=effect.lacks,
        difference=gap.mean,
        low=gap.low,
        high=gap.high,
        p_holm=gap.p_holm,
        verdict=effect.verdict,
    )


def attempt_message(done: TuningAttempt) -> Attempt:
    """An attempt, to be kept."""
    return Attempt(
        number=done.number,
        chosen=done.chosen,
        state=done.state,
        value=done.value,
        figures=done.figures,
        training_loss=done.losses.get("training"),
        validation_loss=done.losses.get("validation"),
        rounds=[round_message(each) for each in done.rounds],
        seconds=done.seconds,
        message=done.message,
    )


def kept_attempt(record: AttemptRecord) -> TuningAttempt:
    """An attempt of before a crash."""
    losses = {"training": record.training_loss, "validation": record.validation_loss}
    return TuningAttempt(
        number=record.number,
        chosen=record.chosen,
        state=record.state,
        seconds=record.seconds,
        value=record.value,
        figures=record.figures,
        losses={name: loss for name, loss in losses.items() if loss is not None},
        rounds=[_kept_round(each) for each in record.rounds],
        message=record.message,
    )


def _kept_round(message: Round) -> TrainingRound:
    losses = {name: math.nan if loss is None else loss for name, loss in message.losses.items()}
    return TrainingRound(message.iteration, message.seconds, losses, message.metrics)
