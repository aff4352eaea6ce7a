"""Events, changed columns, and what comes of them, as calls."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import uuid4

from gleaner.client.call import Call, get, quoted
from gleaner.wire.common import Page
from gleaner.wire.events import (
    Change,
    ChangesAccepted,
    ChangesRequest,
    Event,
    EventsAccepted,
    EventsRequest,
    KeptEvent,
    LiveState,
)
from gleaner.wire.jobs import Job


def send_events(data: str, events: Sequence[Event], *, notes: bool = False) -> Call[EventsAccepted]:
    """Send what users did. Events without an id get one here, so that a repeat after a lost answer counts once.

    notes: ask what events on unknown items or users can change.
    """
    named = [event if event.id else event.model_copy(update={"id": uuid4().hex}) for event in events]
    query = {"notes": True} if notes else {}
    return Call(
        "POST", "/v1/events", EventsAccepted, query=query, body=EventsRequest(data=data, events=named), repeatable=True
    )


def send_event(
    data: str, user: str, item: str, kind: str | None = None, value: float | None = None, list_id: str | None = None
) -> Call[EventsAccepted]:
    """Send that a user met an item just now; list_id: the list in which they saw it."""
    return send_events(data, [Event(user=user, item=item, kind=kind, value=value, list_id=list_id)])


def list_events(
    data: str, *, user: str | None = None, after: str | None = None, limit: int | None = None
) -> Call[Page[KeptEvent]]:
    """Events in the order in which they were kept: the last ones, or those after a cursor."""
    return get("/v1/events", Page[KeptEvent], data=data, user=user, after=after, limit=limit)


def change_items(data: str, changes: Sequence[Change]) -> Call[ChangesAccepted]:
    """Change cells of items; setting a cell twice is setting it once."""
    path, body = f"/v1/datasets/{quoted(data)}/items/changes", ChangesRequest(changes=list(changes))
    return Call("POST", path, ChangesAccepted, body=body, repeatable=True)


def change_users(data: str, changes: Sequence[Change]) -> Call[ChangesAccepted]:
    """Change cells of users."""
    path, body = f"/v1/datasets/{quoted(data)}/users/changes", ChangesRequest(changes=list(changes))
    return Call("POST", path, ChangesAccepted, body=body, repeatable=True)


def gather_events(data: str) -> Call[Job]:
    """Make the next version of a dataset, with the events since the newest."""
    return Call("POST", f"/v1/datasets/{quoted(data)}/gatherings", Job)


def live_state(data: str, days: float | None = None) -> Call[LiveState]:
    """What came since the newest version was made, and what came back of the lists of the last days."""
    return get(f"/v1/datasets/{quoted(data)}/live", LiveState, days=days)
