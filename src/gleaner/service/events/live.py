"""What came since the models learned, in the memory of this process: taken in here, or heard of from others."""

from __future__ import annotations

import secrets
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from sqlalchemy import Engine

from gleaner.core.data.live import LiveRow, LiveRows
from gleaner.core.errors import near
from gleaner.jobs.shelves.stored_lookups import live_row
from gleaner.service.http.problems import FieldsError
from gleaner.store import datasets, events
from gleaner.store.events import NewEvent, StoredEvent
from gleaner.wire.common import FieldProblem
from gleaner.wire.events import Event, EventsAccepted

AHEAD, OLD = timedelta(minutes=10), timedelta(days=400)
"""Clocks differ by minutes; what is older than a year is an import."""

ASKED_AT_ONCE = 10_000
TOLD = 20
"""How many mistakes of one batch are reported."""


@dataclass(frozen=True)
class EventRules:
    """What the events of a version's dataset must fit: its kinds, the declared scale of values, and the columns that it
    keeps beside an interaction, with their types."""

    kinds: list[str]
    scale: tuple[float, float] | None
    context: dict[str, str]


class LiveEvents:
    """Events by dataset. The newest of a dataset are read when they are first asked for; from then on each is added
    when it is kept, before its sender gets an answer."""

    def __init__(self, engine: Engine, most: int) -> None:
        self.engine, self.most = engine, most
        self.origin = secrets.token_hex(6)
        self._rows: dict[int, LiveRows] = {}
        self._expected: dict[int, EventRules] = {}
        self._lock = threading.Lock()

    def rows(self, dataset_id: int) -> LiveRows:
        """The events of a dataset."""
        with self._lock:
            rows = self._rows.get(dataset_id)
            if rows is not None:
                return rows
            # known before it is read, so that nothing kept meanwhile is missed; what comes twice counts once
            rows = self._rows[dataset_id] = LiveRows(self.most)
            try:
                self._read(dataset_id, rows)
            except BaseException:
                del self._rows[dataset_id]
                raise
            return rows

    def _read(self, dataset_id: int, rows: LiveRows) -> None:
        with self.engine.begin() as connection:
            rows.add(map(_row, events.newest(connection, dataset_id, self.most)))

    def take(self, data: str, events_sent: Sequence[Event]) -> EventsAccepted:
        """Keep events, durably, and then have them count. All or none.

        Raises FieldsError naming the events that cannot be kept, UnknownNameError for an unknown dataset.
        """
        now = datetime.now(UTC)
        with self.engine.begin() as connection:
            newest = datasets.newest(connection, data)
            expected = self._expected.get(newest.version_id)
            if expected is None:
                kinds = datasets.kinds_by_id(connection, newest.version_id)
                scale = datasets.scale_by_id(connection, newest.version_id)
                context = datasets.context_types_by_id(connection, newest.version_id)
                expected = self._expected[newest.version_id] = EventRules(kinds, scale, context)
            _require_fit(events_sent, expected, now)
            new_events = [_new(event, now + timedelta(microseconds=place)) for place, event in enumerate(events_sent)]
            kept = events.add_all(connection, newest.dataset_id, new_events, self.origin)
        rows = self._rows.get(newest.dataset_id)
        if rows is not None:
            rows.add(map(_row, kept))
        given = [new.id for new, event in zip(new_events, events_sent, strict=True) if event.id is None]
        return EventsAccepted(data=data, taken=len(kept), repeated=len(events_sent) - len(kept), ids=given)

    def hear(self, payload: str) -> None:
        """Act on the news of another process: events it kept, or a user that was forgotten."""
        dataset, what, rest = payload.split(" ", 2)
        rows = self._rows.get(int(dataset))
        if rows is None or rest == self.origin:
            return
        if what == "forget":
            rows.forget(rest)
            return
        first, _, last = what.partition("-")
        with self.engine.begin() as connection:
            rows.add(map(_row, events.numbered(connection, int(dataset), int(first), int(last))))

    def forget_missing(self, dataset_id: int) -> None:
        """Drop users of whom nothing is kept any more: they were forgotten, and the notice was missed."""
        rows = self._rows.get(dataset_id)
        users = [] if rows is None else rows.users()
        for lo in range(0, len(users), ASKED_AT_ONCE):
            some = users[lo : lo + ASKED_AT_ONCE]
            with self.engine.begin() as connection:
                there = events.users_with_events(connection, dataset_id, some)
            for user in set(some) - there:
                assert rows is not None
                rows.forget(user)

    def read_again(self) -> None:
        """Take in what may have been missed while nothing was heard."""
        for dataset_id, rows in list(self._rows.items()):
            self._read(dataset_id, rows)


def _require_fit(events_sent: Sequence[Event], expected: EventRules, now: datetime) -> None:
    problems = []
    for place, event in enumerate(events_sent):
        misfit = _misfit(event, expected, now)
        if misfit:
            problems.append(FieldProblem(field=f"events.{place}.{misfit[0]}", message=misfit[1]))
    if problems:
        sentence = "; ".join(f"{each.field}: {each.message}" for each in problems[:3])
        more = f"; and {len(problems) - 3} more" if len(problems) > 3 else ""
        raise FieldsError(f"{sentence}{more}; none was kept", problems[:TOLD])


def _misfit(event: Event, expected: EventRules, now: datetime) -> tuple[str, str] | None:
    kinds = expected.kinds
    if kinds and event.kind not in kinds:
        given = "it is missing" if event.kind is None else f"there is none called {event.kind!r}"
        return "kind", f"{given}; the dataset has {', '.join(kinds)}"
    if not kinds and event.kind is not None:
        return "kind", f"the dataset has no kinds, so {event.kind!r} cannot be one"
    if event.value is not None and expected.scale is not None:
        low, high = expected.scale
        if not low <= event.value <= high:
            return "value", f"{event.value:g} lies outside the dataset's scale, {low:g} to {high:g}"
    for name, value in event.context.items():
        if wrong := _wrong_context(name, value, expected.context):
            return f"context.{name}", wrong
    if event.time is None:
        return None
    if event.time > now + AHEAD:
        return "time", f"{event.time.isoformat()} is in the future"
    if event.time < now - OLD:
        return "time", f"{event.time.isoformat()} is more than {OLD.days} days ago; bring old rows with a data import"
    return None


def _wrong_context(name: str, value: object, types: dict[str, str]) -> str | None:
    """What is wrong with a cell beside an interaction."""
    if name not in types:
        return f"the dataset keeps no such column beside an interaction{near(name, types)}"
    kind = types[name]
    if value is None:
        return None
    if kind == "number" and (isinstance(value, bool) or not isinstance(value, int | float)):
        return f"it must be a number, not {value!r}"
    if kind == "flag" and not isinstance(value, bool):
        return f"it must be true or false, not {value!r}"
    if kind not in ("number", "flag") and not isinstance(value, str):
        return f"it must be a text, not {value!r}"
    if kind == "date" and not _is_date(str(value)):
        return f"it must be a date such as 2026-03-01, not {value!r}"
    return None


def _is_date(text: str) -> bool:
    try:
        return bool(date.fromisoformat(text)) and len(text) == len("2026-03-01")
    except ValueError:
        return False


def _new(event: Event, now: datetime) -> NewEvent:
    event_id = event.id or secrets.token_hex(12)
    at, context = event.time or now, event.context or None
    return NewEvent(event_id, event.source, event.user, event.item, event.kind, event.value, at, event.list_id, context)


def _row(event: StoredEvent) -> tuple[str, LiveRow]:
    return event.user, live_row(event)
