"""Datasets: uploads, imports, versions, histories."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query, Request, Response

from gleaner.service import uploads
from gleaner.service.guard import BUILD, SERVE
from gleaner.service.histories import history_of, users_of
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
from gleaner.store import datasets, jobs
from gleaner.store.queue import submit
from gleaner.wire.common import NAME_PATTERN, Page
from gleaner.wire.datasets import Dataset, DatasetVersion, History, ImportRequest, Upload, UserSummary
from gleaner.wire.jobs import Job

router = APIRouter(prefix="/v1", tags=["datasets"], responses=PROBLEMS)
Number = Annotated[int, Path(ge=1)]


@router.post("/uploads", dependencies=[BUILD], status_code=201, openapi_extra=uploads.BODY)
async def send_file(
    request: Request, service: ServiceDep, file: Annotated[str, Query(max_length=200)] = "upload"
) -> Upload:
    """Send the bytes of one file as the body; name the answer's `upload` in an import."""
    return await uploads.receive(request.stream(), file, service.settings)


@router.post("/datasets/{name}/versions", dependencies=[BUILD], status_code=202, response_model=Job)
def import_version(
    name: Annotated[str, Path(pattern=NAME_PATTERN)],
    body: ImportRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    response: Response,
    idempotency_key: IdempotencyKey = None,
    traceparent: TraceParent = None,
) -> Job | Response:
    """Make the next version of a dataset from uploads. Answers the job; its result names the version."""

    def make() -> Job:
        uploads.require(service.settings, body)
        job_id = submit(connection, service.queue, "import", name, body.model_dump(), traceparent)
        return jobs.get(connection, job_id)

    request = f"import {name} {body.model_dump_json()}"
    return once(connection, idempotency_key, request, response, 202, make)


@router.get("/datasets", dependencies=[BUILD])
def list_datasets(connection: ConnectionDep, after: After = None, limit: Limit = DEFAULT_LIMIT) -> Page[Dataset]:
    """Datasets by name, with their versions."""
    return datasets.page(connection, after=after, limit=limit)


@router.get("/datasets/{name}", dependencies=[BUILD])
def get_dataset(name: str, connection: ConnectionDep) -> Dataset:
    """One dataset with its versions, newest first."""
    return datasets.get(connection, name)


@router.get("/datasets/{name}/versions/{number}", dependencies=[BUILD])
def get_version(name: str, number: Number, connection: ConnectionDep) -> DatasetVersion:
    """One version: roles, profile, what import found."""
    return datasets.version(connection, f"{name}@{number}")


@router.get("/datasets/{name}/versions/{number}/users", dependencies=[SERVE])
def find_users(
    name: str,
    number: Number,
    service: ServiceDep,
    connection: ConnectionDep,
    search: Annotated[str, Query(max_length=200, description="Part of an id; empty for any.")] = "",
    limit: Annotated[int, Query(ge=1, le=100)] = 20,
) -> list[UserSummary]:
    """Users whose id holds a text, with how much they did, the most active first."""
    return users_of(service, datasets.files(connection, f"{name}@{number}"), search, limit)


@router.get("/datasets/{name}/versions/{number}/history", dependencies=[SERVE])
def get_history(
    name: str,
    number: Number,
    user: Annotated[str, Query(min_length=1, max_length=1000)],
    service: ServiceDep,
    connection: ConnectionDep,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> History:
    """What one user did, newest first, with the columns of the items."""
    return history_of(service, datasets.files(connection, f"{name}@{number}"), user, limit)
