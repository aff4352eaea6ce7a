"""What a report is made of, gathered from the records."""

from __future__ import annotations

from sqlalchemy import Connection

from gleaner.core.errors import ConflictError
from gleaner.report.report_data import ReportData
from gleaner.service.contests import run_figures, run_tuning
from gleaner.service.contests.choosing import choose
from gleaner.service.contests.definitions import definitions_of
from gleaner.service.http.state import Service
from gleaner.store import contests, datasets
from gleaner.store.records.contests import RunRecord
from gleaner.wire.contests.runs import Run, Segments
from gleaner.wire.datasets import DatasetVersion
from gleaner.wire.shelves.evaluations import ShelfEvaluation

BINS = 4


def report_data_of(service: Service, connection: Connection, name: str) -> ReportData:
    """Everything about a run. Raises UnknownNameError, ConflictError while it has no winner."""
    record = contests.get(connection, name)
    if record.winner is None:
        raise ConflictError(f"{record.name} is {record.state}: there is nothing to report yet", where="run")
    run = described(record)
    return ReportData(
        run=run,
        data=DatasetVersion.of_record(datasets.version(connection, run.data)),
        choice=choose(service, connection, run.name, None),
        against=choose(service, connection, run.name, _against(run)),
        tunings=run_tuning.tunings(connection, run.name),
        curves=run_tuning.curves(connection, run.name),
        segments=_segments(service, connection, run),
        likelihoods=run_figures.likelihoods(connection, run.name).contenders,
        shelves=[ShelfEvaluation.model_validate(each) for each in contests.shelves_of(connection, run.name)],
        values=run_figures.values(service, connection, run.name, "test") if run.spec.rank.values else None,
    )


def described(record: RunRecord) -> Run:
    """The run with what its figures mean."""
    run = Run.of_record(record)
    less = [each.label for each in run.spec.rank.references() if each.sign < 0]
    return run.model_copy(update={"definitions": definitions_of(run), "less_is_better": less})


def _against(run: Run) -> str:
    """Coverage where the contest has it, else the time of a list."""
    return f"coverage@{run.spec.rank.cut}" if "coverage" in run.spec.rank.metrics else "list_ms"


def _segments(service: Service, connection: Connection, run: Run) -> list[Segments]:
    """By history and, where the metric can be read so, by the popularity of items."""
    standing = run.standings[0].figure(run.decide_by)
    if standing is None or standing.low is None:
        return []
    sides = ["history"] if run.spec.rank.deciding.k is None else ["history", "popularity"]
    by_side = [run_figures.segments(service, connection, run.name, by, None, "test", BINS) for by in sides]
    return [each for each in by_side if len(each.segments) > 1]
