"""What was written, by which key, in the transaction that wrote it."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from sqlalchemy import Connection, Row, delete, func, insert, select

from gleaner.store.database.pages import after_id, paged
from gleaner.store.database.tables import audit
from gleaner.store.records.keys import WriteRecord
from gleaner.store.records.pages import RecordPage


def add(connection: Connection, written: WriteRecord) -> None:
    """Put a write down; it stands if and only if the write does."""
    values = {name: value for name, value in vars(written).items() if name not in ("key", "at")}
    connection.execute(insert(audit).values(values | {"by_key": written.key}))


def page(connection: Connection, *, after: str | None, limit: int, key: str | None) -> RecordPage[WriteRecord]:
    """Writes, newest first; of one key, where it is named."""
    query = select(audit).order_by(audit.c.id.desc()).limit(limit + 1)
    if key is not None:
        query = query.where(audit.c.by_key == key)
    if (last := after_id(after)) is not None:
        query = query.where(audit.c.id < last)
    return paged(connection.execute(query).all(), limit, "id", _written)


def prune(connection: Connection, days: float) -> int:
    """Remove writes from more than so many days ago; return how many."""
    return connection.execute(delete(audit).where(audit.c.at < func.now() - timedelta(days=days))).rowcount


def _written(row: Row[Any]) -> WriteRecord:
    return WriteRecord(
        at=row.at,
        key=row.by_key,
        method=row.method,
        path=row.path,
        request_id=row.request_id,
        address=row.address,
    )
