"""The service itself and its keys, as calls."""

from __future__ import annotations

from gleaner.client.call import Call, get, quoted
from gleaner.wire.common import Page, Version
from gleaner.wire.keys import Key, KeyRequest, NewKey, RotateRequest, WriteEntry
from gleaner.wire.overview import Overview


def version() -> Call[Version]:
    """Is the service there, and which."""
    return get("/readyz", Version)


def overview() -> Call[Overview]:
    """What is served and how it does, what runs, and what needs attention."""
    return get("/v1/overview", Overview)


def create_key(request: KeyRequest) -> Call[NewKey]:
    """Make a key."""
    return Call("POST", "/v1/keys", NewKey, body=request)


def list_keys() -> Call[Page[Key]]:
    """All keys."""
    return get("/v1/keys", Page[Key])


def revoke_key(name: str) -> Call[Key]:
    """End a key."""
    return Call("POST", f"/v1/keys/{quoted(name)}/revoke", Key, repeatable=True)


def rotate_key(name: str, grace_minutes: float = 60) -> Call[NewKey]:
    """Give a key a new secret."""
    return Call("POST", f"/v1/keys/{quoted(name)}/rotate", NewKey, body=RotateRequest(grace_minutes=grace_minutes))


def list_writes(key: str | None = None, after: str | None = None, limit: int | None = None) -> Call[Page[WriteEntry]]:
    """What was written, by which key, newest first."""
    return get("/v1/audit", Page[WriteEntry], key=key, after=after, limit=limit)
