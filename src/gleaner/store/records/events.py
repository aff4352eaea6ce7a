"""Events, and what came back of served lists."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any


@dataclass(frozen=True, kw_only=True)
class EventRecord:
    """An event as it was kept."""

    id: str
    source: str
    user: str
    item: str
    kind: str | None
    value: float | None
    time: datetime
    list_id: str | None
    context: dict[str, Any]
    received_at: datetime


@dataclass(frozen=True, kw_only=True)
class ListsBackRecord:
    """What came back of the lists of one shelf. answered: lists that an event names. by_place: events on an item of
    the list, by its place. items_shown: different items in the newest lists."""

    shelf: str
    lists: int
    users: int
    fallbacks: int
    answered: int
    events: int
    by_place: list[int]
    items_shown: int
