"""Answers to writes that carried an Idempotency-Key, so that a repeat does nothing again."""

from __future__ import annotations

import hashlib
from typing import Any

from sqlalchemy import Connection, insert, select, text

from gleaner.core.errors import ConflictError
from gleaner.store.database.tables import idempotency


def recall(connection: Connection, key: str, request: str) -> tuple[int, dict[str, Any]] | None:
    """The answer given before for this key, or None. Holds the key until the caller's transaction ends, so that two
    requests at once are answered one after the other. Raises ConflictError when the key came with another request."""
    connection.execute(text("SELECT pg_advisory_xact_lock(hashtext(:key))"), {"key": f"idempotency {key}"})
    row = connection.execute(select(idempotency).where(idempotency.c.key == key)).one_or_none()
    if row is None:
        return None
    if row.request_sha256 != _digest(request):
        raise ConflictError(f"Idempotency-Key {key!r} was used for another request", where="Idempotency-Key")
    return row.status, row.body


def remember(connection: Connection, key: str, request: str, status: int, body: dict[str, Any]) -> None:
    """Keep an answer."""
    values = {"key": key, "request_sha256": _digest(request), "status": status, "body": body}
    connection.execute(insert(idempotency).values(values))


def _digest(request: str) -> str:
    return hashlib.sha256(request.encode()).hexdigest()
