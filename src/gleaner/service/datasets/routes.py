"""Datasets: uploads, imports, versions, histories."""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import IO, Annotated, Any, Literal

import polars as pl
from fastapi import APIRouter, Path, Query, Request, Response
from fastapi.responses import FileResponse, StreamingResponse

from gleaner.core.errors import InputError, UnknownNameError
from gleaner.service.contests.contest_check import division
from gleaner.service.datasets import uploads
from gleaner.service.datasets.comparison import compare_versions
from gleaner.service.datasets.example_data import bring_example
from gleaner.service.datasets.histories import history_of
from gleaner.service.datasets.proposals import propose
from gleaner.service.datasets.queries import run_query
from gleaner.service.datasets.searching import find
from gleaner.service.datasets.tables import TableName, encoding_of, item_facts, look, overlap_map
from gleaner.service.http.access import BUILD, AdminDep
from gleaner.service.http.dependencies import (
    DEFAULT_LIMIT,
    MOST_NUMBER,
    PROBLEMS,
    After,
    Caller,
    IdempotencyKey,
    JobNumber,
    Limit,
    Named,
    TraceParent,
    VersionNumber,
    answer_once,
)
from gleaner.service.http.documents import Document
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.service.keys.auditing import record_write
from gleaner.service.tables.forms import to_csv
from gleaner.store import datasets, jobs
from gleaner.store.database.queue import submit
from gleaner.store.files.artefacts import release
from gleaner.wire.common import NAME_PATTERN, Id, Page
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.contests.runs import DivideReport
from gleaner.wire.datasets import (
    Comparison,
    Dataset,
    DatasetVersion,
    EncodingReport,
    ForgetRequest,
    History,
    ItemFacts,
    ItemSummary,
    OverlapMap,
    QueryAnswer,
    QueryRequest,
    RemovedVersion,
    RowsPage,
    Upload,
    UserSummary,
)
from gleaner.wire.imports import ImportLook, ImportRequest, Proposal, ProposalRequest
from gleaner.wire.jobs import Job

router = APIRouter(prefix="/v1", tags=["datasets"], responses=PROBLEMS, route_class=GuardedRoute)
Exact = Annotated[bool, Query(description="CSV: cells that a spreadsheet would run stay as they are.")]
PARQUET = "application/vnd.apache.parquet"
MEDIA = {"json": "application/json", "csv": "text/csv; charset=utf-8", "parquet": PARQUET}
TABLE_TYPES: dict[int | str, dict[str, Any]] = {
    200: {"content": {kind: {"schema": {"type": "string", "format": "binary"}} for kind in (PARQUET, "text/csv")}}
}


@router.post("/uploads", dependencies=[BUILD], status_code=201, openapi_extra=uploads.BODY)
async def send_file(
    request: Request, service: ServiceDep, file: Annotated[str, Query(max_length=200)] = "upload"
) -> Upload:
    """Send the bytes of one file as the body; name the answer's `upload` in an import."""
    return await uploads.receive(request.stream(), file, service.settings)


@router.post("/proposals", dependencies=[BUILD])
def propose_roles(body: ProposalRequest, service: ServiceDep, admin: AdminDep) -> Proposal:
    """Look into files: format, columns, which role and type each seems to have and why, and a few rows."""
    sources = {part: spec for part in ("interactions", "items", "users") if (spec := getattr(body, part))}
    uploads.require(service.settings, sources, may_read_any_url=admin)
    return propose(service, body, anywhere=admin)


@router.post("/datasets/{name}/versions", dependencies=[BUILD], status_code=202, response_model=Job)
def import_version(
    name: Annotated[str, Path(pattern=NAME_PATTERN)],
    body: ImportRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    response: Response,
    admin: AdminDep,
    caller: Caller,
    idempotency_key: IdempotencyKey = None,
    traceparent: TraceParent = None,
) -> Job | Response:
    """Make the next version of a dataset from uploads or URLs. Answers the job; its result names the version."""

    def make() -> Job:
        uploads.require(service.settings, body.sources(), may_read_any_url=admin)
        if body.onto is not None:
            datasets.files(connection, f"{name}@{body.onto}")
        payload = body.model_dump(mode="json")
        job_id = submit(connection, service.queue, "import", name, payload, traceparent, anywhere=admin)
        return Job.of_record(jobs.get(connection, job_id))

    request = f"import {name} {body.model_dump_json()}"
    return answer_once(connection, caller, idempotency_key, request, response, 202, make)


@router.post("/example-data", dependencies=[BUILD], status_code=202)
def bring_example_data(service: ServiceDep, connection: ConnectionDep) -> Job:
    """Import the data of a made-up seed exchange, which comes with the package."""
    return bring_example(service, connection)


@router.get("/imports/{job}", dependencies=[BUILD])
def get_import_look(job: JobNumber, connection: ConnectionDep) -> ImportLook:
    """What a job with `only_look` says an import would keep, drop and find."""
    record = jobs.get(connection, job)
    if record.kind != "import" or "report" not in (record.result or {}):
        raise UnknownNameError(f"job {job} is no import that only looked and has ended well", where="job")
    return ImportLook.model_validate(record.result)


@router.get("/datasets", dependencies=[BUILD])
def list_datasets(connection: ConnectionDep, after: After = None, limit: Limit = DEFAULT_LIMIT) -> Page[Dataset]:
    """Datasets by name, with their versions."""
    return Page[Dataset].of_record(datasets.page(connection, after=after, limit=limit))


@router.get("/datasets/{name}", dependencies=[BUILD])
def get_dataset(name: Named, connection: ConnectionDep) -> Dataset:
    """One dataset with its versions, newest first."""
    return Dataset.of_record(datasets.get(connection, name))


@router.get("/datasets/{name}/versions/{number}", dependencies=[BUILD])
def get_version(name: Named, number: VersionNumber, connection: ConnectionDep) -> DatasetVersion:
    """One version: roles, profile, what import found."""
    return DatasetVersion.of_record(datasets.version(connection, f"{name}@{number}"))


@router.delete("/datasets/{name}/versions/{number}", dependencies=[BUILD])
def remove_version(
    name: Named,
    number: VersionNumber,
    request: Request,
    service: ServiceDep,
    force: Annotated[bool, Query(description="Also when models were trained on it.")] = False,
) -> RemovedVersion:
    """Take a version's data away. Its number is not given again."""
    with service.engine.begin() as connection:
        files = datasets.files(connection, f"{name}@{number}")
        removed = datasets.remove(connection, f"{name}@{number}", force=force)
        record_write(connection, request)
    digests = [digest for each in datasets.FILES if (digest := getattr(files, f"{each}_file"))]
    with service.engine.begin() as connection:
        released = release(connection, digests)
    service.artefacts.remove_files(released)
    return RemovedVersion.of_record(removed)


@router.post("/datasets/{name}/forget", dependencies=[BUILD], status_code=202, response_model=Job)
def forget_user(
    name: Named,
    body: ForgetRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    response: Response,
    caller: Caller,
    idempotency_key: IdempotencyKey = None,
) -> Job | Response:
    """Remove all rows of a user from every version. The job's result says how many, and which models saw them."""

    def make() -> Job:
        datasets.get(connection, name)
        job_id = submit(connection, service.queue, "forget", name, body.model_dump())
        return Job.of_record(jobs.get(connection, job_id))

    return answer_once(connection, caller, idempotency_key, f"forget {name} {body.user}", response, 202, make)


@router.post("/datasets/{name}/versions/{number}/split", dependencies=[BUILD], status_code=202)
def split_version(
    name: Named, number: VersionNumber, body: FileRequest, service: ServiceDep, connection: ConnectionDep
) -> Job:
    """Prepare and split as a file declares (its `prepare`, `split` and `seed`; a contest file will do), without
    training. The job's report is at /v1/splits."""
    version = datasets.version(connection, f"{name}@{number}")
    request = division(Document(body.file, body.name), version)
    job_id = submit(connection, service.queue, "split", version.name, request.model_dump(mode="json"))
    return Job.of_record(jobs.get(connection, job_id))


@router.get("/splits/{job}", dependencies=[BUILD])
def get_split(job: JobNumber, connection: ConnectionDep) -> DivideReport:
    """What the preparation and split of a job did."""
    record = jobs.get(connection, job)
    if record.kind != "split" or record.result is None:
        raise UnknownNameError(f"job {job} is no split that has ended well", where="job")
    return DivideReport.model_validate(record.result)


@router.get("/datasets/{name}/compare", dependencies=[BUILD])
def compare_two(
    name: Named,
    service: ServiceDep,
    connection: ConnectionDep,
    before: Annotated[int, Query(ge=1, le=MOST_NUMBER)],
    after: Annotated[int, Query(ge=1, le=MOST_NUMBER)],
) -> Comparison:
    """Two versions: counts, drift of popularity and of values, what moved most."""
    sides = [f"{name}@{number}" for number in (before, after)]
    one, two = ((datasets.version(connection, each), datasets.files(connection, each)) for each in sides)
    return compare_versions(service, one, two)


@router.get("/datasets/{name}/versions/{number}/rows", dependencies=[BUILD])
def look_at_rows(
    name: Named,
    number: VersionNumber,
    service: ServiceDep,
    connection: ConnectionDep,
    table: TableName = "interactions",
    where: Annotated[str | None, Query(max_length=4000, description="SQL condition over the table's columns.")] = None,
    sample: Annotated[int | None, Query(ge=1, le=1000, description="So many rows drawn at random.")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 20,
) -> RowsPage:
    """The first rows of a table, those for which a condition holds, or a sample of them."""
    version, files = datasets.version(connection, f"{name}@{number}"), datasets.files(connection, f"{name}@{number}")
    return look(service, version, files, table, where, sample, limit)


@router.post(
    "/datasets/{name}/versions/{number}/query", dependencies=[BUILD], response_model=QueryAnswer, responses=TABLE_TYPES
)
def query_version(
    name: Named,
    number: VersionNumber,
    body: QueryRequest,
    service: ServiceDep,
    format: Annotated[Literal["json", "csv", "parquet"], Query(description="How to answer.")] = "json",
    exact: Exact = False,
) -> Response:
    """One SELECT over the tables interactions, items and users: read-only, bounded in time and memory."""
    with service.engine.begin() as connection:
        files = datasets.files(connection, f"{name}@{number}")
    answer = run_query(service, files, body.sql, body.limit, format, exact=exact)
    headers = {"Content-Length": str(os.fstat(answer.fileno()).st_size)}
    if format != "json":
        headers["Content-Disposition"] = f'attachment; filename="{name}-{number}-query.{format}"'
    return StreamingResponse(_pieces(answer), media_type=MEDIA[format], headers=headers)


def _pieces(file: IO[bytes]) -> Iterator[bytes]:
    with file:
        while piece := file.read(1 << 18):
            yield piece


@router.get("/datasets/{name}/versions/{number}/files/{table}", dependencies=[BUILD], responses=TABLE_TYPES)
def export_table(
    name: Named,
    number: VersionNumber,
    table: Literal["interactions", "items", "users"],
    service: ServiceDep,
    connection: ConnectionDep,
    format: Annotated[
        Literal["parquet", "csv"], Query(description="How to answer; CSV for items and users.")
    ] = "parquet",
    exact: Exact = False,
) -> Response:
    """One whole table of a version as a Parquet file, as it is kept."""
    digest = getattr(datasets.files(connection, f"{name}@{number}"), f"{table}_file")
    if digest is None:
        raise UnknownNameError(f"{name}@{number} has no {table} table", where="table")
    path = service.artefacts.local_path(digest)
    if format == "csv":
        if table == "interactions":
            raise InputError("interactions are given as Parquet; `query` answers a part of them as CSV", where="format")
        return _download(to_csv(pl.read_parquet(path), exact=exact), f"{name}-{number}-{table}", "csv")
    return FileResponse(path, media_type=PARQUET, filename=f"{name}-{number}-{table}.parquet")


def _download(content: bytes, name: str, kind: str) -> Response:
    media = PARQUET if kind == "parquet" else "text/csv; charset=utf-8"
    return Response(content, media_type=media, headers={"Content-Disposition": f'attachment; filename="{name}.{kind}"'})


@router.get("/datasets/{name}/versions/{number}/items", dependencies=[BUILD])
def item_of_version(
    name: Named,
    number: VersionNumber,
    item: Annotated[str, Query(min_length=1, max_length=1000)],
    service: ServiceDep,
    connection: ConnectionDep,
    n: Annotated[int, Query(ge=1, le=100, description="How many items that go together with it.")] = 10,
) -> ItemFacts:
    """One item: its values, its months, and the items that share most users with it."""
    reference = f"{name}@{number}"
    version, files = datasets.version(connection, reference), datasets.files(connection, reference)
    return item_facts(service, version, files, item, n)


@router.get("/datasets/{name}/versions/{number}/overlap", dependencies=[BUILD])
def overlap_of_users(
    name: Named,
    number: VersionNumber,
    user: Annotated[list[Id], Query(min_length=2, max_length=30)],
    service: ServiceDep,
    connection: ConnectionDep,
) -> OverlapMap:
    """Every pair of some users: how many items in common, how alike their values."""
    return overlap_map(service, datasets.files(connection, f"{name}@{number}"), user)


@router.get("/datasets/{name}/versions/{number}/features", dependencies=[BUILD])
def features_of_version(
    name: Named,
    number: VersionNumber,
    service: ServiceDep,
    connection: ConnectionDep,
    table: Literal["items", "users"] = "items",
) -> EncodingReport:
    """How item or user columns become the features of a model."""
    reference = f"{name}@{number}"
    return encoding_of(service, datasets.version(connection, reference), datasets.files(connection, reference), table)


@router.get("/datasets/{name}/versions/{number}/users", dependencies=[BUILD])
def find_users(
    name: Named,
    number: VersionNumber,
    service: ServiceDep,
    connection: ConnectionDep,
    search: Annotated[str, Query(max_length=200, description="Part of an id or of any text; empty for any.")] = "",
    limit: Annotated[int, Query(ge=1, le=100)] = 20,
) -> list[UserSummary]:
    """Users whose id or any column of text holds a text, with how much they did, the most active first."""
    return [
        UserSummary(user=row["id"], rows=row["rows"], label=row["label"])
        for row in find(service, datasets.files(connection, f"{name}@{number}"), "user", search, limit)
    ]


@router.get("/datasets/{name}/versions/{number}/items/search", dependencies=[BUILD])
def find_items(
    name: Named,
    number: VersionNumber,
    service: ServiceDep,
    connection: ConnectionDep,
    search: Annotated[str, Query(max_length=200, description="Part of an id or of any text; empty for any.")] = "",
    limit: Annotated[int, Query(ge=1, le=100)] = 20,
) -> list[ItemSummary]:
    """Items whose id or any column of text holds a text, with how many rows they have, those with most first."""
    return [
        ItemSummary(item=row["id"], rows=row["rows"], label=row["label"])
        for row in find(service, datasets.files(connection, f"{name}@{number}"), "item", search, limit)
    ]


@router.get("/datasets/{name}/versions/{number}/history", dependencies=[BUILD])
def get_history(
    name: Named,
    number: VersionNumber,
    user: Annotated[str, Query(min_length=1, max_length=1000)],
    service: ServiceDep,
    connection: ConnectionDep,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> History:
    """What one user did, newest first, with the columns of the items."""
    return history_of(service, datasets.files(connection, f"{name}@{number}"), user, limit)
