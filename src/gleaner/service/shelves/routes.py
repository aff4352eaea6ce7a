"""Shelves and the lists they serve."""

from __future__ import annotations

import logging
from collections.abc import Callable
from functools import partial
from typing import Annotated, Any

import polars as pl
from fastapi import APIRouter, Query, Request, Response
from sqlalchemy import Connection

from gleaner.core.errors import InputError
from gleaner.jobs.worker.schedules import next_after
from gleaner.service.http.access import BUILD, SERVE
from gleaner.service.http.dependencies import (
    DEFAULT_LIMIT,
    MOST_NUMBER,
    PROBLEMS,
    After,
    Caller,
    IdempotencyKey,
    Limit,
    Named,
    TraceParent,
    answer_once,
)
from gleaner.service.http.documents import Document
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, Service, ServiceDep
from gleaner.service.keys.auditing import record_write
from gleaner.service.shelves.pinning import Pinning, require_confirmed, require_expected
from gleaner.service.shelves.quick_lists import list_body
from gleaner.service.shelves.shelf_check import check, difference, draft
from gleaner.store import jobs, models, refreshes, served_lists, shelves
from gleaner.store.database.queue import submit
from gleaner.store.records.shelves import ShelfVersionRecord
from gleaner.wire.common import Id, Page
from gleaner.wire.jobs import Job
from gleaner.wire.shelves.publishing import PublishRequest
from gleaner.wire.shelves.refreshes import Refresh, Refreshes, RefreshRequest
from gleaner.wire.shelves.shelf import (
    MAX_N,
    MAX_SHOWN,
    MAX_USER,
    RecommendationAnswer,
    RecommendRequest,
    RollbackRequest,
    ServedList,
    ShelfCheck,
    ShelfDifference,
    ShelfDraft,
    ShelfHistory,
    ShelfSpec,
    ShelfSummary,
    ShelfVersion,
)

log = logging.getLogger("gleaner.service")
router = APIRouter(prefix="/v1", tags=["shelves"], responses=PROBLEMS, route_class=GuardedRoute)


@router.post("/shelves", dependencies=[BUILD], status_code=201, response_model=ShelfVersion)
def publish(
    body: PublishRequest,
    request: Request,
    service: ServiceDep,
    response: Response,
    caller: Caller,
    idempotency_key: IdempotencyKey = None,
) -> ShelfVersion | Response:
    """Publish a shelf file as the next version. It is loaded and asked for a list first; only then is it served.

    Names of models without a number keep the served models. Refused with 409 if the served version is not the one that
    the file is based on, or if models would change and `update_models` is not set.
    """

    def make(connection: Connection) -> ShelfVersion:
        document = Document(body.file, body.name)
        named = document.tree.get("shelf")
        shelves.lock(connection, str(named))
        pinning = Pinning.of(connection, str(named), update_models=body.update_models)
        report = check(document, service.shelves, pinning)
        if report.problems:
            raise document.refuse(report.problems)
        require_expected(pinning.served, str(named), body)
        require_confirmed(report.changes, document.read(ShelfSpec), pinning)
        spec = pinning.pinned(document.read(ShelfSpec))
        loaded = service.shelves.load(spec, 0, new=True)
        version_id = models.files(connection, loaded.model.fitted.name).version_id
        if version_id is None:
            raise InputError(
                f"{loaded.model.fitted.name} was brought in without its data; a shelf needs both", where="model"
            )
        version = shelves.publish(connection, spec, body.file, version_id)
        return _version(connection, version)

    text = f"shelf {body.model_dump_json()}"
    return _kept(
        service, request, lambda at: answer_once(at, caller, idempotency_key, text, response, 201, partial(make, at))
    )


def _kept(
    service: Service, request: Request, keep: Callable[[Connection], ShelfVersion | Response]
) -> ShelfVersion | Response:
    """A version that is kept and then swapped in. Other processes hear of it; in this one no call after the answer may
    meet what was."""
    with service.engine.begin() as connection:
        kept = keep(connection)
        record_write(connection, request)
    if isinstance(kept, ShelfVersion):
        try:
            service.shelves.refresh(kept.shelf)
        except Exception:
            # it is kept, and whoever asks for a list of it gets the reason
            log.exception("shelf %s cannot be served", kept.shelf)
    return kept


@router.post("/shelves/check", dependencies=[BUILD])
def check_shelf(body: PublishRequest, service: ServiceDep, connection: ConnectionDep) -> ShelfCheck:
    """Look at a shelf file without publishing it: every mistake at once with its line, else what is left to list and
    which models would change."""
    document = Document(body.file, body.name)
    pinning = Pinning.of(connection, str(document.tree.get("shelf")), update_models=body.update_models)
    return check(document, service.shelves, pinning)


@router.get("/schemas/shelf", dependencies=[BUILD])
def get_shelf_schema() -> dict[str, Any]:
    """The JSON Schema of a shelf file, for editors."""
    return ShelfSpec.model_json_schema() | {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A shelf file",
    }


@router.get("/models/{model}/shelf-file", dependencies=[BUILD])
def draft_shelf(model: Named, service: ServiceDep, connection: ConnectionDep) -> ShelfDraft:
    """A commented shelf file for a model."""
    record = models.get(connection, model)
    items = service.shelves.tables(service.library.model(model)).items
    popular = models.popular_beside(connection, record.name)
    flags = [] if items.frame is None else [name for name in items.columns if items.frame[name].dtype == pl.Boolean]
    return ShelfDraft(file=draft(record, popular, items.columns, flags))


@router.get("/shelves/{shelf}/difference", dependencies=[BUILD])
def get_difference(
    shelf: Named,
    connection: ConnectionDep,
    before: Annotated[
        int | None, Query(ge=1, le=MOST_NUMBER, description="A version; left out: the one served before.")
    ] = None,
    after: Annotated[
        int | None, Query(ge=1, le=MOST_NUMBER, description="Another; left out: the one that is served.")
    ] = None,
) -> ShelfDifference:
    """What changed from one version to another."""
    last = shelves.get(connection, shelf if after is None else f"{shelf}@{after}")
    first = shelves.served_before(connection, shelf) if before is None else before
    return difference(shelves.get(connection, f"{shelf}@{first}"), last)


@router.post("/shelves/{shelf}/rollback", dependencies=[BUILD], response_model=ShelfVersion)
def roll_back(
    shelf: Named,
    body: RollbackRequest,
    request: Request,
    service: ServiceDep,
    response: Response,
    caller: Caller,
    idempotency_key: IdempotencyKey = None,
) -> ShelfVersion | Response:
    """Serve an earlier version again. It is loaded and asked for a list first, as a new one is."""

    def make(connection: Connection) -> ShelfVersion:
        wanted = shelves.roll_back(connection, shelf, body.to)
        service.shelves.load(wanted.spec, wanted.number)
        return _version(connection, wanted)

    text = f"rollback {shelf} {body.to}"
    return _kept(
        service, request, lambda at: answer_once(at, caller, idempotency_key, text, response, 200, partial(make, at))
    )


@router.post("/shelves/{shelf}/refresh", dependencies=[BUILD], status_code=202)
def refresh(
    shelf: Named,
    body: RefreshRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    traceparent: TraceParent = None,
) -> Job:
    """Refresh a shelf now: events into a version of the data, models fitted anew, judged by the shelf's guard, and
    published if it passes. `/v1/shelves/{shelf}/refreshes` has how it ended."""
    name = shelves.get(connection, shelf).shelf
    payload = body.model_dump(mode="json")
    job = submit(connection, service.queue, "refresh", name, payload, traceparent)
    refreshes.begin(connection, name, job, None)
    return Job.of_record(jobs.get(connection, job))


@router.get("/shelves/{shelf}/refreshes", dependencies=[BUILD])
def list_refreshes(
    shelf: Named, connection: ConnectionDep, after: After = None, limit: Limit = DEFAULT_LIMIT
) -> Refreshes:
    """What became of the refreshes of a shelf, newest first, and when the next is due."""
    version = shelves.get(connection, shelf)
    scheduled = refreshes.scheduled(connection, version.shelf)
    return Refreshes(
        shelf=version.shelf,
        next_at=next_after(scheduled[0].every, scheduled[0].last) if scheduled else None,
        refreshes=Page[Refresh].of_record(refreshes.page(connection, version.shelf, after=after, limit=limit)),
    )


@router.get("/shelves", dependencies=[SERVE])
def list_shelves(connection: ConnectionDep, after: After = None, limit: Limit = DEFAULT_LIMIT) -> Page[ShelfSummary]:
    """Shelves by name, with the version each serves."""
    return Page[ShelfSummary].of_record(shelves.page(connection, after=after, limit=limit))


@router.get("/shelves/{shelf}", dependencies=[BUILD])
def get_shelf(shelf: Named, connection: ConnectionDep) -> ShelfVersion:
    """The version being served, or one by a name such as for-growers@2."""
    return _version(connection, shelves.get(connection, shelf))


def _version(connection: Connection, record: ShelfVersionRecord) -> ShelfVersion:
    version = ShelfVersion.of_record(record)
    version.training_only = models.training_only(connection, record.spec.models())
    return version


@router.get("/shelves/{shelf}/versions", dependencies=[BUILD])
def get_versions(shelf: Named, connection: ConnectionDep) -> ShelfHistory:
    """Every version, newest first."""
    return ShelfHistory.of_record(shelves.history(connection, shelf))


@router.get("/shelves/{shelf}/recommendations", dependencies=[SERVE], response_model=RecommendationAnswer)
async def recommend(
    shelf: Named,
    service: ServiceDep,
    user: Annotated[
        str | None, Query(min_length=1, max_length=MAX_USER, description="Left out: someone anonymous.")
    ] = None,
    n: Annotated[int, Query(ge=1, le=MAX_N)] = 10,
    explain: Annotated[bool, Query(description="Say why each item, and what each stage did and took.")] = False,
    show: Annotated[
        list[Id] | None, Query(max_length=MAX_SHOWN, description="Item columns, instead of those the shelf names.")
    ] = None,
) -> Response:
    """A list for a user, or for someone anonymous."""
    return await _answer(service, shelf, RecommendRequest(user=user, n=n, explain=explain, show=show))


@router.post("/shelves/{shelf}/recommendations", dependencies=[SERVE], response_model=RecommendationAnswer)
async def recommend_with(shelf: Named, body: RecommendRequest, service: ServiceDep) -> Response:
    """The same, with what the caller knows: items just touched."""
    return await _answer(service, shelf, body)


@router.get("/lists/{list_id}", dependencies=[BUILD])
def get_list(list_id: Named, connection: ConnectionDep) -> ServedList:
    """A list that was served, by its id."""
    return ServedList.of_record(served_lists.get(connection, list_id))


async def _answer(service: Service, name: str, request: RecommendRequest) -> Response:
    return Response(await list_body(service, name, request), media_type="application/json")
