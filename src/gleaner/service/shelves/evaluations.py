"""Shelves before anyone is served by them."""

from __future__ import annotations

from fastapi import APIRouter

from gleaner.core.errors import UnknownNameError
from gleaner.jobs.shelves.evaluate_shelf import shelf_parts
from gleaner.service.http.access import BUILD
from gleaner.service.http.dependencies import PROBLEMS, JobNumber, TraceParent
from gleaner.service.http.documents import Document
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.service.shelves.shelf_check import check
from gleaner.store import contests, jobs
from gleaner.store.database.queue import submit
from gleaner.wire.jobs import Job
from gleaner.wire.shelves.evaluations import EvaluateShelfRequest, ShelfEvaluation

KIND = "evaluate-shelf"
router = APIRouter(prefix="/v1/shelf-evaluations", tags=["shelves"], responses=PROBLEMS, route_class=GuardedRoute)


@router.post("", dependencies=[BUILD], status_code=202)
def evaluate_shelf(
    body: EvaluateShelfRequest, service: ServiceDep, connection: ConnectionDep, traceparent: TraceParent = None
) -> Job:
    """Evaluate a shelf on the test part of a run: its models are fitted on what that part leaves, it lists for the
    users of the part, and is compared with the run's contenders. Answers the job; what came of it is at
    /v1/shelf-evaluations/{job}."""
    if body.file is not None:
        document = Document(body.file.file, body.file.name)
        if problems := check(document, service.shelves).problems:
            raise document.refuse(problems)
    run = contests.get(connection, body.beside)
    parts = shelf_parts(connection, body, run)
    payload = body.model_copy(update={"beside": run.name}).model_dump(mode="json")
    job_id = submit(connection, service.queue, KIND, parts.label.removeprefix("shelf "), payload, traceparent)
    return Job.of_record(jobs.get(connection, job_id))


@router.get("/{job}", dependencies=[BUILD])
def get_shelf_evaluation(job: JobNumber, connection: ConnectionDep) -> ShelfEvaluation:
    """What came of an evaluation."""
    record = jobs.get(connection, job)
    if record.kind != KIND or record.result is None:
        raise UnknownNameError(f"job {job} has no evaluation of a shelf: it is {record.state}", where="job")
    return ShelfEvaluation.model_validate(record.result)
