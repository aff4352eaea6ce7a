"""Keys and their scopes."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum

from pydantic import Field

from gleaner.wire.common import Message, Name

SESSION_COOKIE = "gleaner_session"


class Scope(StrEnum):
    """What a key may do. serve: read lists. events: send events. metrics: read the service's own figures. build: data,
    contests, shelves, and the figures. admin: keys, and all of it."""

    SERVE = "serve"
    EVENTS = "events"
    METRICS = "metrics"
    BUILD = "build"
    ADMIN = "admin"


class KeyRequest(Message):
    """Make a key."""

    name: Name
    scopes: list[Scope] = Field(min_length=1, max_length=10)
    days: float | None = Field(None, gt=0, le=3650, description="After which it ends; left out: never.")
    per_minute: int | None = Field(
        None, ge=1, le=10_000_000, description="Calls that each serving process takes a minute; left out: any number."
    )


class RotateRequest(Message):
    """Give a key a new secret."""

    grace_minutes: float = Field(60, ge=0, le=43_200, description="How long the secret before still opens.")


class Key(Message):
    """A key, without its secret."""

    name: str
    scopes: list[Scope]
    created_at: datetime
    revoked_at: datetime | None = None
    expires_at: datetime | None = None
    per_minute: int | None = None
    previous_until: datetime | None = Field(
        None, description="Until when the secret before the last rotation opens, or opened."
    )


class NewKey(Key):
    """A key just made. The secret is shown this once and kept only as a hash."""

    secret: str


class SignIn(Message):
    """Sign in at the console."""

    key: str = Field(min_length=1, max_length=200, description="The secret of a key.")


class Session(Message):
    """As whom a call was let in."""

    key: str | None = Field(None, description="Name of the key; none where the service needs none.")
    scopes: list[Scope] = []
    ends_at: datetime | None = None


class WriteEntry(Message):
    """One write."""

    at: datetime
    key: str | None = Field(description="None: from this machine, without a key.")
    address: str | None = Field(None, description="Where the call came from, as the service or a trusted proxy saw it.")
    method: str
    path: str
    request_id: str = Field(description="As the answer's X-Request-Id had it.")
