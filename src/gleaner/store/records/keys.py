"""Keys, and what was written with them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from gleaner.wire.keys import Scope


@dataclass(frozen=True, kw_only=True)
class KeyRecord:
    """A key, without its secret. previous_until: how long the secret before the last rotation opens."""

    name: str
    scopes: list[Scope]
    created_at: datetime
    revoked_at: datetime | None
    expires_at: datetime | None
    per_minute: int | None
    previous_until: datetime | None


@dataclass(frozen=True, kw_only=True)
class IssuedKeyRecord(KeyRecord):
    """A key with a secret just given to it, of which only a hash is kept."""

    secret: str


@dataclass(frozen=True)
class KnownKey:
    """What a request needs to know of its key. ends_at: when this secret of it stops opening."""

    name: str
    scopes: frozenset[Scope]
    per_minute: int | None
    ends_at: datetime | None


@dataclass(frozen=True, kw_only=True)
class WriteRecord:
    """One call that wrote. key: None where it came from this machine without a key."""

    at: datetime
    key: str | None
    address: str | None
    method: str
    path: str
    request_id: str
