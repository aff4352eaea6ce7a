"""Which calls write, and are put down with the key that made them."""

from __future__ import annotations

from datetime import UTC, datetime

from fastapi import Request
from sqlalchemy import Connection

from gleaner.store import audit
from gleaner.store.records.keys import WriteRecord

READING = frozenset(
    {
        "/v1/shelves/check",
        "/v1/contests/check",
        "/v1/estimates",
        "/v1/tables",
        "/v1/datasets/{name}/versions/{number}/query",
        "/v1/models/{model}/recommendations",
        "/v1/models/{model}/audiences",
        "/v1/models/{model}/ratings",
        "/v1/shelves/{shelf}/recommendations",
        "/v1/proposals",
    }
)
"""Calls that change nothing although they are no GET: they bring a body."""

OUT_OF_BOOKS = frozenset({"/v1/events", "/v1/uploads"})
"""Events are their own record; an upload is nothing until something is made of it."""


def writes(request: Request) -> bool:
    """Whether a call changes what is kept."""
    path = getattr(request.scope.get("route"), "path", "")
    return request.method not in ("GET", "HEAD", "OPTIONS") and path not in READING | OUT_OF_BOOKS


def record_write(connection: Connection, request: Request) -> None:
    """Put a call down in the transaction of what it wrote."""
    state = request.state
    written = WriteRecord(
        at=datetime.now(UTC),
        key=getattr(state, "key_name", None),
        address=getattr(state, "address", None),
        method=request.method,
        path=request.url.path,
        request_id=state.request_id,
    )
    audit.add(connection, written)
