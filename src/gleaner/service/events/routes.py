"""What users do, as it happens, and columns that change."""

from __future__ import annotations

import logging
from functools import partial
from typing import Annotated, Any, Literal

from anyio import to_thread
from fastapi import APIRouter, Path, Query, Request

from gleaner.service.events.event_reading import NDJSON, ONE, SEVERAL, read_events
from gleaner.service.events.live_changes import change
from gleaner.service.events.live_state import live_state
from gleaner.service.events.unknown_ids import unknown_notes
from gleaner.service.http.access import BUILD, EVENTS, is_builder
from gleaner.service.http.dependencies import DEFAULT_LIMIT, PRINTABLE, PROBLEMS, After, Limit, Named, TraceParent
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, Service, ServiceDep
from gleaner.service.keys.auditing import record_write
from gleaner.store import datasets, jobs
from gleaner.store import events as kept
from gleaner.store.database.queue import submit
from gleaner.store.live_columns import Side
from gleaner.wire.common import Page
from gleaner.wire.events import (
    ChangesAccepted,
    ChangesRequest,
    Event,
    EventsAccepted,
    EventsRequest,
    KeptEvent,
    LiveState,
    OneEvent,
)
from gleaner.wire.jobs import Job

log = logging.getLogger("gleaner.service")
router = APIRouter(prefix="/v1", tags=["events"], responses=PROBLEMS, route_class=GuardedRoute)
ANY = {"schema": {"type": "object", "description": "Bounded by the size of bodies; each event as in JSON."}}


def _several() -> dict[str, Any]:
    """The schema of several events, with that of one in its place: the body is read by us, so that no component holds
    it."""
    schema = EventsRequest.model_json_schema()
    del schema["$defs"]
    schema["properties"]["events"]["items"] = Event.model_json_schema()
    return schema


BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {
            "application/json": {"schema": {"anyOf": [_several(), OneEvent.model_json_schema()]}},
            NDJSON: ANY,
            ONE: ANY,
            SEVERAL: ANY,
        },
    }
}


@router.post("/events", dependencies=[EVENTS], openapi_extra=BODY)
async def take_events(
    request: Request,
    service: ServiceDep,
    notes: Annotated[bool, Query(description="Explain unknown ids, to callers with the scope build.")] = False,
) -> EventsAccepted:
    """Send what users did: one event, several, or CloudEvents. All are kept, or none; when this is answered they are
    durable and the next list reflects them. An id that was sent before counts once."""
    body = await request.body()
    return await to_thread.run_sync(_take, service, request, body, notes)


def _take(service: Service, request: Request, body: bytes, notes: bool) -> EventsAccepted:
    batch = read_events(request.headers, body)
    accepted = service.live.take(batch.data, batch.events)
    if notes and is_builder(request):
        try:
            accepted.notes = unknown_notes(service, batch.data, batch.events)
        except Exception:
            # the events are kept by now: the answer must say so
            log.exception("ids of events on %s cannot be looked up", batch.data)
    return accepted


@router.get("/events", dependencies=[BUILD])
def list_events(
    connection: ConnectionDep,
    data: Annotated[str, Query(max_length=200, pattern=PRINTABLE, description="The dataset.")],
    user: Annotated[str | None, Query(max_length=1000, pattern=PRINTABLE, description="Of this user alone.")] = None,
    after: After = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[KeptEvent]:
    """Events in the order in which they were kept; without `after` the last ones. `next` is always there: ask with it
    again for what came since, and nothing is passed over."""
    dataset_id = datasets.newest(connection, data).dataset_id
    events = kept.page(connection, dataset_id, after=after, limit=limit, user=user)
    return Page[KeptEvent].of_record(events)


@router.post("/datasets/{name}/{side}/changes", dependencies=[EVENTS])
def change_columns(
    name: Named,
    side: Annotated[Literal["items", "users"], Path(description="Of which table.")],
    body: ChangesRequest,
    request: Request,
    service: ServiceDep,
) -> ChangesAccepted:
    """Change cells of items or users, from now on: conditions, limits and lists see them. All or nothing. A later
    version of the dataset that brings a table of its own takes their place."""
    role: Side = "item" if side == "items" else "user"
    return change(service, name, role, body, partial(record_write, request=request))


@router.post("/datasets/{name}/gatherings", dependencies=[BUILD], status_code=202)
def gather(name: Named, service: ServiceDep, connection: ConnectionDep, traceparent: TraceParent = None) -> Job:
    """Make the next version of a dataset: its newest, with the events and the changed columns since."""
    datasets.newest(connection, name)
    job_id = submit(connection, service.queue, "gather", name, {}, traceparent)
    return Job.of_record(jobs.get(connection, job_id))


@router.get("/datasets/{name}/live", dependencies=[BUILD])
def get_live_state(
    name: Named,
    service: ServiceDep,
    connection: ConnectionDep,
    days: Annotated[float, Query(gt=0, le=90, description="How far back lists are looked at.")] = 1.0,
) -> LiveState:
    """What came since the newest version was made, and what came back of the lists."""
    return live_state(service, connection, name, days)
