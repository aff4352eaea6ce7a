"""The service itself and its keys, as calls."""

from __future__ import annotations

from gleaner.client.call import Call, get, quoted
from gleaner.wire.common import Page, Version
from gleaner.wire.keys import Key, KeyRequest, NewKey


def version() -> Call[Version]:
    """Is the service there, and which."""
    return get("/readyz", Version)


def create_key(request: KeyRequest) -> Call[NewKey]:
    """Make a key."""
    return Call("POST", "/v1/keys", NewKey, body=request)


def list_keys() -> Call[Page[Key]]:
    """All keys."""
    return get("/v1/keys", Page[Key])


def revoke_key(name: str) -> Call[Key]:
    """End a key."""
    return Call("POST", f"/v1/keys/{quoted(name)}/revoke", Key, repeatable=True)
