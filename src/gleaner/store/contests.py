"""Runs of contests, their standings and figures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import inf
from typing import Any, TypeVar

from sqlalchemy import Connection, Row, Select, Text, func, insert, select, text, update

from gleaner.core.errors import UnknownNameError
from gleaner.core.metrics.catalogue import better_sign
from gleaner.core.metrics.statistics import Verdict
from gleaner.store.database.pages import after_id, paged
from gleaner.store.database.tables import attempts, datasets, figures, jobs, models, runs, standings, versions
from gleaner.store.datasets import require_data
from gleaner.store.files.artefacts import Artefact, record
from gleaner.store.records.contests import (
    AmountRecord,
    AttemptRecord,
    FigureRecord,
    RunRecord,
    RunSummaryRecord,
    StandingRecord,
)
from gleaner.store.records.pages import RecordPage
from gleaner.wire.common import Message
from gleaner.wire.contests.contest import ContestSpec, PrepareSpec
from gleaner.wire.contests.runs import BaselineDifference, ContestComparison, PartReport, StepReport
from gleaner.wire.contests.tuning import AmountPoint, Attempt, TuningResult
from gleaner.wire.jobs import JobState
from gleaner.wire.names import split_name
from gleaner.wire.shelves.evaluations import ShelfEvaluation

M = TypeVar("M", bound=Message)
TIMES = 300
"""Contenders whose times are looked at when a new contest is estimated."""
KEPT = ("contender", "family", "params", "fit_seconds", "evaluate_seconds", "peak_memory_mb", "list_ms")


@dataclass(frozen=True)
class RunPlan:
    """What a worker needs to run a contest."""

    id: int
    name: str
    version_id: int
    spec: ContestSpec
    expected_seconds: dict[str, float]
    """What each contender was expected to take; empty for a run of an earlier release."""


def add(
    connection: Connection,
    spec: ContestSpec,
    file: str,
    version_id: int,
    job_id: int,
    expected_times: dict[str, dict[str, float]],
) -> str:
    """Record the next run of a contest and return its name.

    expected_times: of each contender `counted`, the seconds by its count of operations alone, and `expected`, corrected
    by what earlier work took. Raises ConflictError if the data was removed meanwhile.
    """
    require_data(connection, version_id)
    connection.execute(text("SELECT pg_advisory_xact_lock(hashtext(:name))"), {"name": f"contest {spec.contest}"})
    last = connection.scalar(select(func.max(runs.c.number)).where(runs.c.contest == spec.contest))
    values = {
        "contest": spec.contest,
        "number": (last or 0) + 1,
        "version_id": version_id,
        "job_id": job_id,
        "file": file,
        "spec": spec.model_dump(mode="json"),
        "expected_times": expected_times,
    }
    connection.execute(insert(runs).values(values))
    return f"{spec.contest}@{values['number']}"


def plan_of_job(connection: Connection, job_id: int) -> RunPlan:
    """The run that a job is for."""
    row = connection.execute(select(runs).where(runs.c.job_id == job_id)).one()
    spec = ContestSpec.model_validate(row.spec)
    expected = {label: times["expected"] for label, times in (row.expected_times or {}).items()}
    return RunPlan(row.id, f"{row.contest}@{row.number}", row.version_id, spec, expected)


def times_taken(connection: Connection) -> list[tuple[str, float, float]]:
    """Return family, seconds counted beforehand and seconds taken of the last contenders, the newest first."""
    query = select(standings.c.family, standings.c.contender, standings.c.elapsed_seconds, runs.c.expected_times)
    query = query.join(runs, runs.c.id == standings.c.run_id).where(standings.c.elapsed_seconds > 0)
    rows = connection.execute(query.order_by(standings.c.id.desc()).limit(TIMES)).all()
    times = [(row.family, (row.expected_times or {}).get(row.contender), row.elapsed_seconds) for row in rows]
    return [(family, expected["counted"], taken) for family, expected, taken in times if expected]


def set_reports(connection: Connection, run_id: int, steps: list[StepReport], parts: list[PartReport]) -> None:
    """Keep what preparation and split did."""
    values = {
        "preparation": [step.model_dump() for step in steps],
        "parts": [part.model_dump(mode="json") for part in parts],
    }
    connection.execute(update(runs).where(runs.c.id == run_id).values(values))


def add_standing(
    connection: Connection,
    run_id: int,
    standing: StandingRecord,
    amounts: list[AmountPoint],
    per_user: Artefact,
    elapsed_seconds: float | None,
) -> int:
    """Keep one contender's results and return the row id. elapsed_seconds: None if an attempt before began it."""
    record(connection, per_user)
    values: dict[str, Any] = {name: getattr(standing, name) for name in KEPT}
    values |= {name: _plain(getattr(standing, name)) for name in ("prepare", "tuning", "against_popular")}
    values["amounts"] = [each.model_dump(mode="json") for each in amounts]
    values |= {"run_id": run_id, "per_user_file": per_user.sha256, "elapsed_seconds": elapsed_seconds}
    standing_id = connection.execute(insert(standings).values(values).returning(standings.c.id)).scalar_one()
    rows = [{"standing_id": standing_id} | vars(figure) for figure in standing.figures]
    # of no rows the database would make one without a value
    if rows:
        connection.execute(insert(figures), rows)
    return standing_id


def finished_contenders(connection: Connection, run_id: int) -> dict[str, str]:
    """Contenders with results already, and the file of their figures per user."""
    rows = connection.execute(
        select(standings.c.contender, standings.c.per_user_file)
        .where(standings.c.run_id == run_id)
        .order_by(standings.c.id)
    )
    return {row.contender: row.per_user_file for row in rows}


def add_attempt(connection: Connection, run_id: int, contender: str, done: Attempt) -> None:
    """Keep one attempt of a tuned contender."""
    values = {"run_id": run_id, "contender": contender, "number": done.number, "attempt": done.model_dump(mode="json")}
    connection.execute(insert(attempts).values(values))


def attempts_of(connection: Connection, run_id: int, contender: str) -> list[AttemptRecord]:
    """The attempts of a contender so far, in order."""
    of_contender = (attempts.c.run_id == run_id) & (attempts.c.contender == contender)
    query = select(attempts.c.attempt).where(of_contender).order_by(attempts.c.number)
    return [AttemptRecord(**vars(Attempt.model_validate(row.attempt))) for row in connection.execute(query)]


def amounts_of(connection: Connection, run_id: int) -> dict[str, list[AmountRecord]]:
    """The learning curve by amount of data of every contender that is done."""
    query = select(standings.c.contender, standings.c.amounts).where(standings.c.run_id == run_id)
    rows = connection.execute(query.order_by(standings.c.id))
    return {
        row.contender: [AmountRecord(**vars(AmountPoint.model_validate(each))) for each in row.amounts] for row in rows
    }


def per_user_files(connection: Connection, dataset: str) -> dict[int, str]:
    """Return the figures-per-user files of every run on a dataset that is not running, by standing."""
    query = (
        select(standings.c.id, standings.c.per_user_file)
        .join(runs, runs.c.id == standings.c.run_id)
        .join(jobs, jobs.c.id == runs.c.job_id)
        .join(versions, versions.c.id == runs.c.version_id)
        .join(datasets, datasets.c.id == versions.c.dataset_id)
        .where(datasets.c.name == dataset, jobs.c.state != JobState.RUNNING.value)
    )
    return {row.id: row.per_user_file for row in connection.execute(query)}


def replace_per_user_file(connection: Connection, standing_id: int, per_user: Artefact) -> None:
    """Put another figures-per-user file in the place of a standing's."""
    record(connection, per_user)
    values = {"per_user_file": per_user.sha256}
    connection.execute(update(standings).where(standings.c.id == standing_id).values(values))


def set_winner(
    connection: Connection,
    run_id: int,
    contender: str,
    comparison: ContestComparison | None,
    verdicts: Mapping[str, Verdict],
) -> None:
    """Name the best contender and keep what beats what. verdicts: of contenders against the baseline, as all pairs
    together allow them, in the place of each by itself."""
    kept = comparison.model_dump() if comparison else None
    connection.execute(update(runs).where(runs.c.id == run_id).values(winner=contender, comparison=kept))
    query = select(standings.c.id, standings.c.contender, standings.c.against_popular)
    for row in connection.execute(query.where(standings.c.run_id == run_id)).all():
        if row.contender in verdicts and row.against_popular:
            gap = row.against_popular | {"verdict": verdicts[row.contender]}
            connection.execute(update(standings).where(standings.c.id == row.id).values(against_popular=gap))


def set_shelves(connection: Connection, run_id: int, evaluations: Sequence[ShelfEvaluation]) -> None:
    """Keep what the shelves that a contest names came to."""
    kept = [each.model_dump(mode="json") for each in evaluations]
    connection.execute(update(runs).where(runs.c.id == run_id).values(shelves=kept))


def shelves_of(connection: Connection, reference: str) -> list[dict[str, Any]]:
    """What they came to, as JSON. Raises UnknownNameError."""
    query = select(runs.c.shelves).where(runs.c.id == get(connection, reference).id)
    return list(connection.scalar(query) or [])


def files_of_run(connection: Connection, reference: str) -> tuple[RunRecord, dict[str, str]]:
    """A run and, by contender, its file of figures per user. Raises UnknownNameError."""
    run = get(connection, reference)
    return run, finished_contenders(connection, run.id)


def page(connection: Connection, *, after: str | None, limit: int) -> RecordPage[RunSummaryRecord]:
    """Runs, newest first."""
    query = _query().order_by(runs.c.id.desc()).limit(limit + 1)
    if (last := after_id(after)) is not None:
        query = query.where(runs.c.id < last)
    return paged(connection.execute(query).all(), limit, "id", lambda row: RunSummaryRecord(**_summary(row)))


def get(connection: Connection, reference: str) -> RunRecord:
    """One run by a name such as spring@2, or the newest of spring. Raises UnknownNameError."""
    name, number = split_name(reference, "contest run")
    query = _query().where(runs.c.contest == name).order_by(runs.c.number.desc()).limit(1)
    if number is not None:
        query = query.where(runs.c.number == number)
    row = connection.execute(query).one_or_none()
    if row is None:
        raise UnknownNameError(f"there is no contest run {reference!r}", where="contest")
    spec = ContestSpec.model_validate(row.spec)
    ranked = results(connection, row.id, spec.rank.names())
    ranked.sort(key=lambda standing: _rank(standing, spec.rank.decide_by), reverse=True)
    comparison = ContestComparison.model_validate(row.comparison) if row.comparison else None
    return RunRecord(
        **_summary(row),
        id=row.id,
        file=row.file,
        spec=spec,
        preparation=[StepReport.model_validate(each) for each in row.preparation],
        parts=[PartReport.model_validate(each) for each in row.parts],
        standings=ranked,
        comparison=comparison,
    )


def results(connection: Connection, run_id: int, metrics: list[str]) -> list[StandingRecord]:
    """Every contender's results so far, in the order they came; figures in the order of `metrics`."""
    model_name = models.c.name + "@" + models.c.number.cast(Text)
    rows = connection.execute(
        select(standings, model_name.label("model"))
        .outerjoin(models, models.c.standing_id == standings.c.id)
        .where(standings.c.run_id == run_id)
        .order_by(standings.c.id)
    ).all()
    values = connection.execute(select(figures).where(figures.c.standing_id.in_([row.id for row in rows])))
    by_standing: dict[int, list[FigureRecord]] = {row.id: [] for row in rows}
    for value in values:
        figure = FigureRecord(value.metric, value.part, value.mean, value.low, value.high)
        by_standing[value.standing_id].append(figure)
    return [_standing(row, by_standing[row.id], metrics) for row in rows]


def _rank(standing: StandingRecord, decide_by: str) -> float:
    figure = standing.figure(decide_by)
    return better_sign(decide_by) * figure.mean if figure else -inf


def _standing(row: Row[Any], figures_of: list[FigureRecord], metrics: list[str]) -> StandingRecord:
    return StandingRecord(
        **{name: getattr(row, name) for name in KEPT},
        model=row.model,
        figures=sorted(figures_of, key=lambda figure: (figure.part, metrics.index(figure.metric))),
        against_popular=_parsed(BaselineDifference, row.against_popular),
        prepare=_parsed(PrepareSpec, row.prepare),
        tuning=_parsed(TuningResult, row.tuning),
    )


def _plain(document: Message | None) -> Any:
    return None if document is None else document.model_dump(mode="json")


def _parsed(declared: type[M], kept: Any) -> M | None:
    return None if kept is None else declared.model_validate(kept)


def _query() -> Select[Any]:
    return (
        select(runs, jobs.c.state, datasets.c.name.label("dataset"), versions.c.number.label("version"))
        .join(jobs, jobs.c.id == runs.c.job_id)
        .join(versions, versions.c.id == runs.c.version_id)
        .join(datasets, datasets.c.id == versions.c.dataset_id)
    )


def _summary(row: Row[Any]) -> dict[str, Any]:
    return {
        "name": f"{row.contest}@{row.number}",
        "contest": row.contest,
        "number": row.number,
        "data": f"{row.dataset}@{row.version}",
        "state": JobState(row.state),
        "job": row.job_id,
        "created_at": row.created_at,
        "decide_by": row.spec["rank"]["decide_by"],
        "winner": row.winner,
        "contenders": len(row.spec["contenders"]),
    }
