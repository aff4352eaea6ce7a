"""Shelves, their versions, their refreshes and the lists they served."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from gleaner.wire.shelves.refreshes import GuardOutcome
from gleaner.wire.shelves.shelf import ShelfSpec


@dataclass(frozen=True, kw_only=True)
class ShelfVersionRecord:
    """One published version. data: the dataset version its models were trained on."""

    name: str
    shelf: str
    number: int
    published_at: datetime
    spec: ShelfSpec
    file: str
    data: str


@dataclass(frozen=True, kw_only=True)
class ShelfRecord:
    """A shelf and the version it serves. versions: how many it has."""

    shelf: str
    title: str
    serving: str
    published_at: datetime
    versions: int
    data: str


@dataclass(frozen=True)
class ServingRecord:
    """When a version began to be served, and how that came."""

    number: int
    at: datetime
    how: Literal["published", "rolled back", "refreshed"]


@dataclass(frozen=True)
class ShelfHistoryRecord:
    """Every version of a shelf, and which was served when, newest first."""

    shelf: str
    serving: int
    versions: list[ShelfVersionRecord]
    servings: list[ServingRecord]


@dataclass(frozen=True, kw_only=True)
class RefreshRecord:
    """One refresh of a shelf, as far as it has come."""

    id: int
    shelf: str
    state: Literal["running", "proposed", "published", "kept", "refused", "failed", "cancelled"]
    job: int
    due_at: datetime | None
    began_from: str
    data: str | None
    events: int | None
    models: dict[str, str]
    guard: GuardOutcome | None
    published: str | None
    reason: str | None
    created_at: datetime


@dataclass(frozen=True, kw_only=True)
class ServedListRecord:
    """A list that was served. user: None for someone anonymous."""

    list_id: str
    shelf: str
    version: int
    user: str | None
    at: datetime
    items: list[str]
    fallback: str | None
