"""Contests and their runs, as calls."""

from __future__ import annotations

from gleaner.client.call import Call, get, quoted
from gleaner.wire.common import Page
from gleaner.wire.contests.choosing import Choice, ReleaseRequest
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.contests.likelihoods import LikelihoodReport
from gleaner.wire.contests.reports import ReportParts
from gleaner.wire.contests.runs import (
    ContestCheck,
    ContestComparison,
    ContestDraft,
    Run,
    RunSummary,
    Segments,
    ValueReport,
)
from gleaner.wire.contests.tuning import LearningCurve, MetricAgreement, Tuning
from gleaner.wire.jobs import Job
from gleaner.wire.shelves.evaluations import ShelfEvaluation


def run_contest(file: FileRequest, idempotency_key: str | None = None) -> Call[Run]:
    """Run a contest file."""
    return Call("POST", "/v1/contests", Run, body=file, idempotency_key=idempotency_key)


def list_runs(after: str | None = None, limit: int | None = None) -> Call[Page[RunSummary]]:
    """Runs, newest first."""
    return get("/v1/contests", Page[RunSummary], after=after, limit=limit)


def run(name: str) -> Call[Run]:
    """One run with its leaderboard."""
    return get(f"/v1/contests/{quoted(name)}", Run)


def comparison(name: str, metric: str | None = None) -> Call[ContestComparison]:
    """Every pair of contenders on a metric of the test part; the deciding one unless named."""
    return get(f"/v1/contests/{quoted(name)}/comparison", ContestComparison, metric=metric)


def segments(
    name: str, by: str, metric: str | None = None, part: str | None = None, bins: int | None = None
) -> Call[Segments]:
    """A metric by parts: history, popularity, time, seen, seen_items, user:COLUMN or item:COLUMN."""
    return get(f"/v1/contests/{quoted(name)}/segments", Segments, by=by, metric=metric, part=part, bins=bins)


def check_contest(file: FileRequest) -> Call[ContestCheck]:
    """Every mistake of a contest file, or what it will take."""
    return Call("POST", "/v1/contests/check", ContestCheck, body=file)


def draft_contest(name: str, number: int) -> Call[ContestDraft]:
    """A commented contest file fitted to a version."""
    return get(f"/v1/datasets/{quoted(name)}/versions/{number}/contest-file", ContestDraft)


def run_values(name: str, part: str | None = None) -> Call[ValueReport]:
    """Predicted against actual values by bin."""
    return get(f"/v1/contests/{quoted(name)}/values", ValueReport, part=part)


def run_shelves(name: str) -> Call[list[ShelfEvaluation]]:
    """What the shelves that a contest names came to."""
    return get(f"/v1/contests/{quoted(name)}/shelves", list[ShelfEvaluation])


def tuning(name: str) -> Call[list[Tuning]]:
    """The search of every tuned contender, with its attempts so far."""
    return get(f"/v1/contests/{quoted(name)}/tuning", list[Tuning])


def curves(name: str) -> Call[list[LearningCurve]]:
    """Learning curves of every contender on validation, by iteration and by amount of data."""
    return get(f"/v1/contests/{quoted(name)}/curves", list[LearningCurve])


def choice(name: str, against: str | None = None) -> Call[Choice]:
    """The contender to release, weighed against a metric, fit_seconds, list_ms or peak_memory_mb where named."""
    return get(f"/v1/contests/{quoted(name)}/choice", Choice, against=against)


def release(name: str, request: ReleaseRequest, idempotency_key: str | None = None) -> Call[Job]:
    """Fit a contender for release, on every row."""
    return Call("POST", f"/v1/contests/{quoted(name)}/release", Job, body=request, idempotency_key=idempotency_key)


def report(name: str, form: str = "html") -> Call[bytes]:
    """A run as one html file, as markdown whose plots lie beside it in `plots`, or as a zip of everything."""
    return get(f"/v1/contests/{quoted(name)}/report", bytes, form=form)


def report_parts(name: str) -> Call[ReportParts]:
    """The plots and tables of a run's report."""
    return get(f"/v1/contests/{quoted(name)}/parts", ReportParts)


def plot(name: str, plot: str, form: str = "svg") -> Call[bytes]:
    """One plot as svg or png."""
    return get(f"/v1/contests/{quoted(name)}/plots/{quoted(plot)}", bytes, form=form)


def report_table(name: str, table: str, form: str = "csv") -> Call[bytes]:
    """One table as csv or parquet."""
    return get(f"/v1/contests/{quoted(name)}/tables/{quoted(table)}", bytes, form=form)


def agreement(name: str, contender: str, part: str | None = None) -> Call[MetricAgreement]:
    """Do the metrics rank the users of a contender alike."""
    return get(f"/v1/contests/{quoted(name)}/agreement", MetricAgreement, contender=contender, part=part)


def likelihoods(name: str) -> Call[LikelihoodReport]:
    """What the chances of a run's contenders came to on the test part."""
    return get(f"/v1/contests/{quoted(name)}/likelihoods", LikelihoodReport)
