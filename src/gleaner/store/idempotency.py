"""Answers to writes that carried an Idempotency-Key, so that a repeat does nothing again."""

from __future__ import annotations

import hashlib
from datetime import timedelta
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select, text

from gleaner.core.errors import ConflictError
from gleaner.store.database.tables import idempotency

KEPT = timedelta(hours=48)
"""How long a repeat is recognised."""


def recall(connection: Connection, caller: str, key: str, request: str) -> tuple[int, dict[str, Any]] | None:
    """Return the answer given before to a caller for a key, or None.

    Holds the key until the transaction ends, so that two requests at once are answered one after the other. Raises
    ConflictError when the key came with another request.
    """
    lock = text("SELECT pg_advisory_xact_lock(hashtext(:key))")
    connection.execute(lock, {"key": f"idempotency {caller} {key}"})
    of_key = (idempotency.c.caller == caller) & (idempotency.c.key == key)
    row = connection.execute(select(idempotency).where(of_key)).one_or_none()
    if row is None:
        return None
    if row.request_sha256 != _digest(request):
        raise ConflictError(f"Idempotency-Key {key!r} was used for another request", where="Idempotency-Key")
    return row.status, row.body


def remember(connection: Connection, caller: str, key: str, request: str, status: int, body: dict[str, Any]) -> None:
    """Keep an answer for KEPT."""
    values = {"caller": caller, "key": key, "request_sha256": _digest(request), "status": status, "body": body}
    connection.execute(insert(idempotency).values(values))


def prune(connection: Connection) -> int:
    """Remove answers older than KEPT; return how many."""
    return connection.execute(delete(idempotency).where(idempotency.c.created_at < func.now() - KEPT)).rowcount


def _digest(request: str) -> str:
    return hashlib.sha256(request.encode()).hexdigest()
