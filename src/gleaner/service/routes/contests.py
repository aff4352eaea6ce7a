"""Contests and their runs."""

from __future__ import annotations

from fastapi import APIRouter, Response

from gleaner.service.contest_check import checked
from gleaner.service.definitions import definitions_of
from gleaner.service.documents import Document
from gleaner.service.guard import BUILD
from gleaner.service.routes.common import (
    DEFAULT_LIMIT,
    PROBLEMS,
    After,
    IdempotencyKey,
    Limit,
    TraceParent,
    once,
)
from gleaner.service.state import ConnectionDep, ServiceDep
from gleaner.store import contests, datasets
from gleaner.store.queue import submit
from gleaner.wire.common import Page
from gleaner.wire.contests import FileRequest, Run, RunSummary

router = APIRouter(prefix="/v1", tags=["contests"], responses=PROBLEMS)


@router.post("/contests", dependencies=[BUILD], status_code=202, response_model=Run)
def run_contest(
    body: FileRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    response: Response,
    idempotency_key: IdempotencyKey = None,
    traceparent: TraceParent = None,
) -> Run | Response:
    """Run a contest file. Answers the run, whose `job` can be followed; standings appear as contenders finish."""

    def make() -> Run:
        spec, version = checked(Document(body.file, body.name), connection)
        # pin the version, so that the run says what it was about when newer ones come
        spec.data = version.name
        files = datasets.files(connection, version.name)
        job_id = submit(connection, service.queue, "contest", spec.contest, {}, traceparent)
        return _described(contests.get(connection, contests.add(connection, spec, body.file, files.id, job_id)))

    return once(connection, idempotency_key, f"contest {body.file}", response, 202, make)


@router.get("/contests", dependencies=[BUILD])
def list_runs(connection: ConnectionDep, after: After = None, limit: Limit = DEFAULT_LIMIT) -> Page[RunSummary]:
    """Runs, newest first."""
    return contests.page(connection, after=after, limit=limit)


@router.get("/contests/{run}", dependencies=[BUILD])
def get_run(run: str, connection: ConnectionDep) -> Run:
    """One run by a name such as spring@2, or the newest of spring: leaderboard, reports, definitions."""
    return _described(contests.get(connection, run))


def _described(run: Run) -> Run:
    return run.model_copy(update={"definitions": definitions_of(run)})
