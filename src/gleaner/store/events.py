"""Events as they were sent, each kept once."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from sqlalchemy import Connection, Row, Select, delete, func, select, text, update

from gleaner.core.errors import InputError
from gleaner.store.database.engine import notify
from gleaner.store.database.pages import after_cursor, cursor_of
from gleaner.store.database.tables import datasets, events
from gleaner.store.records.events import EventRecord
from gleaner.store.records.pages import RecordPage

CHANNEL = "gleaner_events"
INSERT = """
INSERT INTO events (dataset_id, id, source, user_id, item_id, kind, value, at, list_id, context)
SELECT :dataset, * FROM json_to_recordset(CAST(:rows AS json)) AS sent (
    id text, source text, user_id text, item_id text, kind text, value float8, at timestamptz, list_id text,
    context json
) ON CONFLICT (dataset_id, source, id) DO NOTHING RETURNING seq, source, id, xact
"""
"""As one document: the driver takes several times as long over arrays."""

COMPLETE = text("pg_snapshot_xmin(pg_current_snapshot())::text::bigint")
"""Every transaction below it has ended, so nothing can come between its rows any more."""


COLUMNS = ("id", "source", "user_id", "item_id", "kind", "value", "at", "list_id", "context")


class NewEvent(NamedTuple):
    """An event to keep."""

    id: str
    source: str
    user: str
    item: str
    kind: str | None
    value: float | None
    at: datetime
    list_id: str | None
    context: dict[str, Any] | None = None


class StoredEvent(NamedTuple):
    """An event that is kept, with its number among all."""

    seq: int
    user: str
    item: str
    kind: str | None
    value: float | None
    at: datetime
    xact: int
    context: dict[str, Any] | None = None


def add_all(connection: Connection, dataset_id: int, new: Sequence[NewEvent], origin: str) -> list[StoredEvent]:
    """Keep events; answers those that were not here before. Other processes than `origin` are notified on commit.

    In the order of their ids, so that two batches that share some wait for one another instead of for ever.
    """
    ordered = sorted(new, key=lambda event: (event.source, event.id))
    document = json.dumps([dict(zip(COLUMNS, event, strict=True)) for event in ordered], default=datetime.isoformat)
    rows = connection.execute(text(INSERT), {"dataset": dataset_id, "rows": document}).all()
    if rows:
        notify(connection, CHANNEL, f"{dataset_id} {rows[0].xact} {origin}")
    first = {(event.source, event.id): event for event in reversed(ordered)}
    kept = [(row, first[row.source, row.id]) for row in rows]
    return [
        StoredEvent(row.seq, new.user, new.item, new.kind, new.value, new.at, row.xact, new.context)
        for row, new in kept
    ]


def newest(connection: Connection, dataset_id: int, most: int) -> list[StoredEvent]:
    """The events that came last, at most so many, oldest first."""
    query = _stored().where(events.c.dataset_id == dataset_id).order_by(events.c.seq.desc()).limit(most)
    return [_event(row) for row in connection.execute(query)][::-1]


def of_transaction(connection: Connection, dataset_id: int, xact: int) -> list[StoredEvent]:
    """The events that one transaction kept."""
    query = _stored().where(events.c.dataset_id == dataset_id, events.c.xact == xact).order_by(events.c.seq)
    return [_event(row) for row in connection.execute(query)]


def complete(connection: Connection) -> int:
    """The last transaction up to which no event can come any more."""
    return connection.execute(select(COMPLETE)).scalar_one() - 1


def between(connection: Connection, dataset_id: int, after: int, upto: int, chunk: int) -> Iterator[list[StoredEvent]]:
    """Events of the transactions after one, up to another, so many at a time, in the order of transactions."""
    query = _stored().where(events.c.dataset_id == dataset_id, events.c.xact > after, events.c.xact <= upto)
    result = connection.execution_options(yield_per=chunk).execute(query.order_by(events.c.xact, events.c.seq))
    for rows in result.partitions():
        yield [_event(row) for row in rows]


def page(
    connection: Connection, dataset_id: int, *, after: str | None, limit: int, user: str | None
) -> RecordPage[EventRecord]:
    """Events in the order in which they were kept, none ever passed over; `next` is there on the last page too, to ask
    later for what came since. Without `after`: the last so many."""
    query = select(events).where(events.c.dataset_id == dataset_id, events.c.xact < COMPLETE)
    if user is not None:
        query = query.where(events.c.user_id == user)
    if after is None:
        rows = connection.execute(query.order_by(events.c.xact.desc(), events.c.seq.desc()).limit(limit)).all()[::-1]
        place = (0, 0)
    else:
        place = _place(after)
        later = (events.c.xact > place[0]) | ((events.c.xact == place[0]) & (events.c.seq > place[1]))
        rows = connection.execute(query.where(later).order_by(events.c.xact, events.c.seq).limit(limit)).all()
    if rows:
        place = rows[-1].xact, rows[-1].seq
    return RecordPage([_record(row) for row in rows], cursor_of("{}-{}".format(*place)))


def _place(after: str) -> tuple[int, int]:
    xact, sign, seq = (after_cursor(after) or "").partition("-")
    if not (sign and xact.isdigit() and seq.isdigit()):
        raise InputError(f"cursor {after!r} is not one this service gave", where="after")
    return int(xact), int(seq)


def has_user(connection: Connection, dataset_id: int, user: str) -> bool:
    """Whether there is an event of a user."""
    query = select(events.c.seq).where(events.c.dataset_id == dataset_id, events.c.user_id == user).limit(1)
    return connection.scalar(query) is not None


def forget_user(connection: Connection, dataset_id: int, user: str) -> int:
    """Remove every event of a user; answers how many. Serving processes are notified on commit."""
    gone = connection.execute(delete(events).where(events.c.dataset_id == dataset_id, events.c.user_id == user))
    connection.execute(update(datasets).where(datasets.c.id == dataset_id).values(forgotten=datasets.c.forgotten + 1))
    notify(connection, CHANNEL, f"{dataset_id} forget {user}")
    return gone.rowcount


def times_forgotten(connection: Connection) -> dict[int, int]:
    """How often users of each dataset were forgotten: whoever missed the notice sees that there was one."""
    return {row.id: row.forgotten for row in connection.execute(select(datasets.c.id, datasets.c.forgotten))}


def users_with_events(connection: Connection, dataset_id: int, users: list[str]) -> set[str]:
    """Those of some users that have events."""
    query = select(events.c.user_id).where(events.c.dataset_id == dataset_id, events.c.user_id.in_(users)).distinct()
    return set(connection.scalars(query))


def count(connection: Connection, dataset_id: int, since: datetime) -> tuple[int, datetime | None]:
    """How many were received since a moment, and when the last was."""
    query = select(func.count(), func.max(events.c.received_at))
    row = connection.execute(query.where(events.c.dataset_id == dataset_id, events.c.received_at >= since)).one()
    return row[0], row[1]


def _stored() -> Select[Any]:
    return select(
        events.c.seq,
        events.c.user_id,
        events.c.item_id,
        events.c.kind,
        events.c.value,
        events.c.at,
        events.c.xact,
        events.c.context,
    )


def _event(row: Row[Any]) -> StoredEvent:
    return StoredEvent(row.seq, row.user_id, row.item_id, row.kind, row.value, row.at, row.xact, row.context)


def _record(row: Row[Any]) -> EventRecord:
    return EventRecord(
        id=row.id,
        source=row.source,
        user=row.user_id,
        item=row.item_id,
        kind=row.kind,
        value=row.value,
        time=row.at,
        list_id=row.list_id,
        context=row.context or {},
        received_at=row.received_at,
    )
