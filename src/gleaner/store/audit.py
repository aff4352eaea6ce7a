"""What was written, by which key, in the transaction that wrote it."""

from __future__ import annotations

from sqlalchemy import Connection, insert, select

from gleaner.store.names import after_id, paged
from gleaner.store.tables import audit
from gleaner.wire.common import Page
from gleaner.wire.keys import Written


def add(connection: Connection, by_key: str | None, method: str, path: str, request_id: str) -> None:
    """Put a write down; it stands if and only if the write does."""
    values = {"by_key": by_key, "method": method, "path": path, "request_id": request_id}
    connection.execute(insert(audit).values(values))


def page(connection: Connection, *, after: str | None, limit: int, key: str | None) -> Page[Written]:
    """Writes, newest first; of one key, where it is named."""
    query = select(audit).order_by(audit.c.id.desc()).limit(limit + 1)
    if key is not None:
        query = query.where(audit.c.by_key == key)
    if (last := after_id(after)) is not None:
        query = query.where(audit.c.id < last)
    return paged(connection.execute(query).all(), limit, "id", lambda row: Written(
        at=row.at, key=row.by_key, method=row.method, path=row.path, request_id=row.request_id))  # fmt: skip
