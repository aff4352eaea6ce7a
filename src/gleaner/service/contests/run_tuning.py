"""What a run tried: attempts of tuned contenders, learning curves."""

from __future__ import annotations

from typing import Literal

import numpy as np
import polars as pl
from sqlalchemy import Connection

from gleaner.core.errors import InputError, near
from gleaner.core.metrics.agreement import rank_correlations
from gleaner.core.metrics.catalogue import better_sign
from gleaner.service.http.state import Service
from gleaner.store import contests, models
from gleaner.store.records.contests import RunRecord
from gleaner.wire.contests.tuning import AmountPoint, Attempt, LearningCurve, MetricAgreement, Tuning
from gleaner.wire.models.training import JobRound

Part = Literal["validation", "test"]


def tunings(connection: Connection, name: str) -> list[Tuning]:
    """The search of every tuned contender, as far as it has come. Raises UnknownNameError."""
    run = contests.get(connection, name)
    results = {standing.contender: standing.tuning for standing in run.standings}
    return [
        Tuning(
            contender=each.label,
            metric=run.decide_by,
            less_is_better=better_sign(run.decide_by) < 0,
            ranges={key: value for key, value in each.params.items() if isinstance(value, dict)},
            attempts=[Attempt.of_record(done) for done in contests.attempts_of(connection, run.id, each.label)],
            result=results.get(each.label),
        )
        for each in run.spec.contenders
        if each.tuned and each.ablates is None
    ]


def curves(connection: Connection, name: str) -> list[LearningCurve]:
    """Learning curves by iteration and by amount of data, as far as they have come. Raises UnknownNameError."""
    run = contests.get(connection, name)
    amounts = contests.amounts_of(connection, run.id)
    rounds = [each for each in models.rounds_of(connection, run.job) if each.part == "validation"]
    by_contender = []
    for each in run.spec.contenders:
        mine = [JobRound.of_record(done) for done in rounds if done.contender == each.label]
        points = [AmountPoint.of_record(point) for point in amounts.get(each.label, [])]
        if mine or points:
            by_contender.append(LearningCurve(contender=each.label, metric=run.decide_by, rounds=mine, amounts=points))
    return by_contender


def agreement(service: Service, connection: Connection, name: str, contender: str, part: Part) -> MetricAgreement:
    """Rank correlations of every two metrics over one contender's users. Raises UnknownNameError, InputError."""
    run, digests = contests.files_of_run(connection, name)
    if contender not in digests:
        text = f"{run.name} has no contender {contender!r} that is done{near(contender, digests)}"
        raise InputError(text, where="contender")
    key = "agreement", run.name, digests[contender], part
    return service.figures.once(key, lambda: _agreement(service, run, digests[contender], contender, part))


def _agreement(service: Service, run: RunRecord, digest: str, contender: str, part: Part) -> MetricAgreement:
    frame = pl.read_parquet(service.artefacts.local_path(digest)).filter(part=part)
    names = [each for each in run.spec.rank.names() if each in frame.columns and frame[each].is_not_null().any()]
    complete = frame.select(names).drop_nulls()
    if complete.height < 2 or len(names) < 2:
        raise InputError(f"{contender} has fewer than two users with figures to compare", where="contender")
    tau, rho = rank_correlations(complete.cast(pl.Float64).to_numpy())
    return MetricAgreement(
        contender=contender,
        part=part,
        users=complete.height,
        metrics=names,
        kendall=_cells(tau),
        spearman=_cells(rho),
    )


def _cells(table: np.ndarray) -> list[list[float | None]]:
    return [[None if np.isnan(each) else float(each) for each in row] for row in table]
