"""Keys and their scopes."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

from pydantic import Field

from gleaner.wire.common import Message, Name


class Scope(StrEnum):
    """What a key may do. serve: read lists. events: send events. build: data, contests, shelves. admin: keys."""

    SERVE = "serve"
    EVENTS = "events"
    BUILD = "build"
    ADMIN = "admin"


class KeyRequest(Message):
    """Make a key."""

    name: Name
    scopes: list[Scope] = Field(min_length=1)


class Key(Message):
    """A key, without its secret."""

    name: str
    scopes: list[Scope]
    created_at: datetime
    revoked_at: datetime | None = None


class NewKey(Key):
    """A key just made. The secret is shown this once and kept only as a hash."""

    secret: str
