"""Events as they were sent, each kept once."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from sqlalchemy import Connection, Row, Select, delete, func, select, text, update

from gleaner.store.database.engine import notify
from gleaner.store.database.pages import after_id, cursor_of
from gleaner.store.database.tables import datasets, events
from gleaner.store.records.events import EventRecord
from gleaner.store.records.pages import RecordPage

CHANNEL = "gleaner_events"
INSERT = """
INSERT INTO events (dataset_id, id, source, user_id, item_id, kind, value, at, list_id, context)
SELECT :dataset, * FROM json_to_recordset(CAST(:rows AS json)) AS sent (
    id text, source text, user_id text, item_id text, kind text, value float8, at timestamptz, list_id text,
    context json
) ON CONFLICT (dataset_id, source, id) DO NOTHING RETURNING seq, source, id
"""
"""As one document: the driver takes several times as long over arrays."""

LAST_DRAWN = "SELECT CASE WHEN is_called THEN last_value ELSE 0 END AS seq FROM events_seq_seq"
WRITER_KEY = 0x61E5
"""High 16 bits of the advisory locks of writers; the low 48 bits say above which number they write."""

ANNOUNCE = text(f"SELECT pg_advisory_xact_lock_shared(({WRITER_KEY}::bigint << 48) | seq) FROM ({LAST_DRAWN}) AS drawn")
LOWEST_WRITER = text(
    "SELECT min(((classid::bigint & 65535) << 32) | objid::bigint) FROM pg_locks"
    f" WHERE locktype = 'advisory' AND objsubid = 1 AND classid::bigint >> 16 = {WRITER_KEY}"
    " AND database = (SELECT oid FROM pg_database WHERE datname = current_database())"
)

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
    context: dict[str, Any] | None = None


def add_all(connection: Connection, dataset_id: int, new: Sequence[NewEvent], origin: str) -> list[StoredEvent]:
    """Keep events; answers those that were not here before. Other processes than `origin` are notified on commit.

    In the order of their ids, so that two batches that share some wait for one another instead of for ever.
    """
    connection.execute(ANNOUNCE)
    ordered = sorted(new, key=lambda event: (event.source, event.id))
    document = json.dumps([dict(zip(COLUMNS, event, strict=True)) for event in ordered], default=datetime.isoformat)
    rows = connection.execute(text(INSERT), {"dataset": dataset_id, "rows": document}).all()
    if rows:
        numbers = [row.seq for row in rows]
        notify(connection, CHANNEL, f"{dataset_id} {min(numbers)}-{max(numbers)} {origin}")
    first = {(event.source, event.id): event for event in reversed(ordered)}
    kept = [(row, first[row.source, row.id]) for row in rows]
    return [StoredEvent(row.seq, new.user, new.item, new.kind, new.value, new.at, new.context) for row, new in kept]


def newest(connection: Connection, dataset_id: int, most: int) -> list[StoredEvent]:
    """The events that came last, at most so many, oldest first."""
    query = _stored().where(events.c.dataset_id == dataset_id).order_by(events.c.seq.desc()).limit(most)
    return [_event(row) for row in connection.execute(query)][::-1]


def numbered(connection: Connection, dataset_id: int, first: int, last: int) -> list[StoredEvent]:
    """Return the events of a dataset whose numbers lie in a range, both ends included, in order."""
    query = _stored().where(events.c.dataset_id == dataset_id, events.c.seq.between(first, last))
    return [_event(row) for row in connection.execute(query.order_by(events.c.seq))]


def settled_upto(connection: Connection) -> int:
    """Return the highest number up to which no further event can appear.

    Numbers are drawn before commit, so a later number may become visible first. Each writer holds a lock that names a
    number below all of its own. The three steps must stay in this order: a writer that is missing from the locks has
    either committed, or draws numbers above the one read first. Requires READ COMMITTED isolation.
    """
    last_drawn = connection.execute(text(LAST_DRAWN)).scalar_one()
    lowest_writer = connection.execute(LOWEST_WRITER).scalar_one()
    return last_drawn if lowest_writer is None else min(last_drawn, lowest_writer)


def between(connection: Connection, dataset_id: int, after: int, upto: int, chunk: int) -> Iterator[list[StoredEvent]]:
    """Yield the events with numbers above `after` and up to `upto`, `chunk` at a time, in order."""
    query = _stored().where(events.c.dataset_id == dataset_id, events.c.seq > after, events.c.seq <= upto)
    result = connection.execution_options(yield_per=chunk).execute(query.order_by(events.c.seq))
    for rows in result.partitions():
        yield [_event(row) for row in rows]


def page(
    connection: Connection, dataset_id: int, *, after: str | None, limit: int, user: str | None
) -> RecordPage[EventRecord]:
    """Events in the order in which they were kept, none ever passed over; `next` is there on the last page too, to ask
    later for what came since. Without `after`: the last so many."""
    query = select(events).where(events.c.dataset_id == dataset_id, events.c.seq <= settled_upto(connection))
    if user is not None:
        query = query.where(events.c.user_id == user)
    if after is None:
        rows = connection.execute(query.order_by(events.c.seq.desc()).limit(limit)).all()[::-1]
        last_seq = 0
    else:
        last_seq = after_id(after) or 0
        rows = connection.execute(query.where(events.c.seq > last_seq).order_by(events.c.seq).limit(limit)).all()
    if rows:
        last_seq = rows[-1].seq
    return RecordPage([_record(row) for row in rows], cursor_of(last_seq))


def has_user(connection: Connection, dataset_id: int, user: str) -> bool:
    """Whether there is an event of a user."""
    query = select(events.c.seq).where(events.c.dataset_id == dataset_id, events.c.user_id == user).limit(1)
    return connection.scalar(query) is not None


def forget_user(connection: Connection, dataset_id: int, user: str) -> int:
    """Remove every event of a user; answers how many. Serving processes are notified on commit.

    Locks the dataset first: versions that are recorded afterwards see that somebody was forgotten.
    """
    connection.execute(update(datasets).where(datasets.c.id == dataset_id).values(forgotten=datasets.c.forgotten + 1))
    gone = connection.execute(delete(events).where(events.c.dataset_id == dataset_id, events.c.user_id == user))
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
        events.c.context,
    )


def _event(row: Row[Any]) -> StoredEvent:
    return StoredEvent(row.seq, row.user_id, row.item_id, row.kind, row.value, row.at, row.context)


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
