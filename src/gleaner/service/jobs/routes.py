"""Jobs: what runs, how far, what came of it."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Annotated

from anyio import to_thread
from fastapi import APIRouter, Depends, Query
from fastapi.sse import EventSourceResponse, ServerSentEvent

from gleaner.service.http.access import BUILD
from gleaner.service.http.dependencies import DEFAULT_LIMIT, PROBLEMS, After, JobNumber, Limit
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, Service, ServiceDep
from gleaner.store import jobs
from gleaner.wire.common import Page
from gleaner.wire.jobs import Job, JobDetail, JobKind, JobState

router = APIRouter(prefix="/v1", tags=["jobs"], responses=PROBLEMS, route_class=GuardedRoute)


@router.get("/jobs", dependencies=[BUILD])
def list_jobs(
    connection: ConnectionDep,
    after: After = None,
    limit: Limit = DEFAULT_LIMIT,
    state: Annotated[JobState | None, Query()] = None,
    kind: Annotated[JobKind | None, Query(description="Jobs of this kind alone.")] = None,
) -> Page[Job]:
    """Jobs, newest first."""
    return Page[Job].of_record(jobs.page(connection, after=after, limit=limit, state=state, kind=kind))


@router.get("/jobs/{job}", dependencies=[BUILD])
def get_job(job: JobNumber, connection: ConnectionDep) -> JobDetail:
    """One job with its log."""
    return JobDetail.of_record(jobs.detail(connection, job))


@router.post("/jobs/{job}/cancel", dependencies=[BUILD], status_code=202)
def cancel_job(job: JobNumber, connection: ConnectionDep) -> Job:
    """Ask a job to stop. It ends as `cancelled` and keeps nothing half-written."""
    return Job.of_record(jobs.request_cancel(connection, job))


def _require_job(job: int, connection: ConnectionDep) -> None:
    """Answer 404 before the stream begins."""
    jobs.get(connection, job)


@router.get("/jobs/{job}/events", dependencies=[BUILD, Depends(_require_job)], response_class=EventSourceResponse)
async def follow_job(job: JobNumber, service: ServiceDep) -> AsyncIterator[ServerSentEvent]:
    """Server-Sent Events: one `job` event now and after every change, the last one when the job has ended."""
    waiting = service.job_events.follow(job)
    last_sent: Job | None = None
    try:
        while last_sent is None or not last_sent.state.ended:
            now = await to_thread.run_sync(_read, service, job)
            if last_sent is None or _differ(now, last_sent):
                last_sent = now
                yield ServerSentEvent(event="job", data=now.model_dump(mode="json"))
            if not now.state.ended:
                await service.job_events.changed(waiting)
    finally:
        service.job_events.leave(job, waiting)


def _differ(now: Job, before: Job) -> bool:
    """Whether there is anything to send: time that passes is no change."""
    return now.model_dump(exclude={"seconds_left"}) != before.model_dump(exclude={"seconds_left"})


def _read(service: Service, job: int) -> Job:
    with service.engine.begin() as connection:
        return Job.of_record(jobs.get(connection, job))
