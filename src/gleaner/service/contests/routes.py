"""Contests and their runs."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query, Response

from gleaner.service.contests import choosing, run_figures, run_tuning
from gleaner.service.contests.contest_check import checked
from gleaner.service.contests.contest_draft import draft
from gleaner.service.contests.contest_estimate import check, counted_work, expected_times, recorded_times
from gleaner.service.contests.contest_schema import contest_schema
from gleaner.service.contests.reporting import described
from gleaner.service.http.access import BUILD
from gleaner.service.http.dependencies import (
    DEFAULT_LIMIT,
    PROBLEMS,
    After,
    Caller,
    IdempotencyKey,
    Limit,
    Named,
    TraceParent,
    VersionNumber,
    answer_once,
)
from gleaner.service.http.documents import Document
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.service.models import training
from gleaner.store import contests, datasets, jobs
from gleaner.store.database.queue import submit
from gleaner.wire.common import Page
from gleaner.wire.contests.choosing import Choice, ReleaseRequest
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.contests.likelihoods import LikelihoodReport
from gleaner.wire.contests.rank import MetricKind
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

MetricName = Annotated[
    str | None, Query(max_length=200, description="The deciding metric unless named.", examples=["recall@10"])
]
router = APIRouter(prefix="/v1", tags=["contests"], responses=PROBLEMS, route_class=GuardedRoute)


@router.post("/contests", dependencies=[BUILD], status_code=202, response_model=Run)
def run_contest(
    body: FileRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    response: Response,
    caller: Caller,
    idempotency_key: IdempotencyKey = None,
    traceparent: TraceParent = None,
) -> Run | Response:
    """Run a contest file. Answers the run, whose `job` can be followed; standings appear as contenders finish."""

    def make() -> Run:
        spec, version = checked(Document(body.file, body.name), connection, body.files)
        # pin the version, so that the run says what it was about when newer ones come
        spec.data = version.name
        files = datasets.files(connection, version.name)
        job_id = submit(connection, service.queue, "contest", spec.contest, {}, traceparent)
        counted = counted_work(connection, service.settings, spec, version)
        times = recorded_times(counted, expected_times(connection, counted))
        return described(contests.get(connection, contests.add(connection, spec, body.file, files.id, job_id, times)))

    return answer_once(connection, caller, idempotency_key, f"contest {body.file} {body.files}", response, 202, make)


@router.post("/contests/check", dependencies=[BUILD])
def check_contest(body: FileRequest, service: ServiceDep, connection: ConnectionDep) -> ContestCheck:
    """Look at a contest file without running it: every mistake at once with its line, else what it will take."""
    return check(Document(body.file, body.name), connection, service, body.files)


@router.get("/metrics", dependencies=[BUILD])
def list_metrics() -> list[MetricKind]:
    """Every metric that a contest can ask for, and what it says."""
    return MetricKind.every()


@router.get("/schemas/contest", dependencies=[BUILD])
def get_contest_schema() -> dict[str, Any]:
    """The JSON Schema of a contest file, for editors."""
    return contest_schema()


@router.get("/datasets/{name}/versions/{number}/contest-file", dependencies=[BUILD])
def draft_contest(name: Named, number: VersionNumber, connection: ConnectionDep) -> ContestDraft:
    """A commented contest file fitted to the columns of a version, which runs as it is."""
    return draft(datasets.version(connection, f"{name}@{number}"))


@router.get("/contests", dependencies=[BUILD])
def list_runs(connection: ConnectionDep, after: After = None, limit: Limit = DEFAULT_LIMIT) -> Page[RunSummary]:
    """Runs, newest first."""
    return Page[RunSummary].of_record(contests.page(connection, after=after, limit=limit))


@router.get("/contests/{run}", dependencies=[BUILD])
def get_run(run: Named, connection: ConnectionDep) -> Run:
    """One run by a name such as spring@2, or the newest of spring: leaderboard, reports, definitions."""
    return described(contests.get(connection, run))


@router.get("/contests/{run}/comparison", dependencies=[BUILD])
def compare_contenders(
    run: Named,
    service: ServiceDep,
    connection: ConnectionDep,
    metric: Annotated[
        str | None, Query(max_length=200, description="The deciding metric unless named.", examples=["recall@10"])
    ] = None,
) -> ContestComparison:
    """Every pair of contenders on one metric of the test part, user by user, corrected for being many."""
    return run_figures.compare(service, connection, run, metric)


@router.get("/contests/{run}/segments", dependencies=[BUILD])
def get_segments(
    run: Named,
    service: ServiceDep,
    connection: ConnectionDep,
    by: Annotated[
        str,
        Query(max_length=300, description="history, popularity, time, seen, seen_items, user:COLUMN, item:COLUMN."),
    ],
    metric: Annotated[
        str | None, Query(max_length=200, description="The deciding metric unless named.", examples=["recall@10"])
    ] = None,
    part: Literal["validation", "test"] = "test",
    bins: Annotated[int, Query(ge=2, le=20, description="Of numbers and times: how many ranges.")] = 4,
) -> Segments:
    """One metric of every contender by parts of the users, or of the relevant items, with counts."""
    return run_figures.segments(service, connection, run, by, metric, part, bins)


@router.get("/contests/{run}/values", dependencies=[BUILD])
def get_values(
    run: Named, service: ServiceDep, connection: ConnectionDep, part: Literal["validation", "test"] = "test"
) -> ValueReport:
    """Predicted against actual values by bin, error by actual value and by how strict users are."""
    return run_figures.values(service, connection, run, part)


@router.get("/contests/{run}/likelihoods", dependencies=[BUILD])
def get_likelihoods(run: Named, connection: ConnectionDep) -> LikelihoodReport:
    """How often what contenders say of chances came true on the test part, by bins, with Brier score and log loss."""
    return run_figures.likelihoods(connection, run)


@router.get("/contests/{run}/shelves", dependencies=[BUILD])
def get_shelves(run: Named, connection: ConnectionDep) -> list[ShelfEvaluation]:
    """What the shelves that the contest names came to on the test part, stage by stage, beside its contenders."""
    return [ShelfEvaluation.model_validate(each) for each in contests.shelves_of(connection, run)]


@router.get("/contests/{run}/tuning", dependencies=[BUILD])
def get_tuning(run: Named, connection: ConnectionDep) -> list[Tuning]:
    """The search of every tuned contender: what varied, each attempt on validation, what mattered."""
    return run_tuning.tunings(connection, run)


@router.get("/contests/{run}/curves", dependencies=[BUILD])
def get_curves(run: Named, connection: ConnectionDep) -> list[LearningCurve]:
    """Learning curves on validation: by iteration, with losses, and by amount of training data."""
    return run_tuning.curves(connection, run)


@router.get("/contests/{run}/agreement", dependencies=[BUILD])
def get_agreement(
    run: Named,
    service: ServiceDep,
    connection: ConnectionDep,
    contender: Annotated[str, Query(max_length=200)],
    part: Literal["validation", "test"] = "test",
) -> MetricAgreement:
    """Do the metrics rank the users of a contender alike: Kendall's tau and Spearman's rho of every two."""
    return run_tuning.agreement(service, connection, run, contender, part)


@router.get("/contests/{run}/choice", dependencies=[BUILD])
def choose_contender(
    run: Named,
    service: ServiceDep,
    connection: ConnectionDep,
    against: Annotated[
        str | None,
        Query(
            max_length=200,
            description="A metric of the run, fit_seconds, list_ms or peak_memory_mb.",
            examples=["coverage@10"],
        ),
    ] = None,
) -> Choice:
    """The contender to release: the best on validation, or of all that cannot be told from it the best `against`."""
    return choosing.choose(service, connection, run, against)


@router.post("/contests/{run}/release", dependencies=[BUILD], status_code=202, response_model=Job)
def release_contender(
    run: Named,
    body: ReleaseRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    response: Response,
    caller: Caller,
    idempotency_key: IdempotencyKey = None,
) -> Job | Response:
    """Fit the chosen contender, or the one named, on every row; the job's result names the model."""

    def make() -> Job:
        request = training.filled(connection, choosing.request_of(service, connection, run, body))
        training.require_allowed(training.estimated(connection, request, service.settings), body.confirm)
        job_id = submit(connection, service.queue, "train", request.data, request.model_dump(mode="json"))
        return Job.of_record(jobs.get(connection, job_id))

    return answer_once(
        connection, caller, idempotency_key, f"release {run} {body.model_dump_json()}", response, 202, make
    )
