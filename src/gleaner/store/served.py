"""The log of served lists."""

from __future__ import annotations

from sqlalchemy import Connection, delete, insert, select

from gleaner.core.errors import NotFoundError
from gleaner.store.tables import served_lists
from gleaner.wire.shelves import ServedList


def add_all(connection: Connection, lists: list[ServedList]) -> None:
    """Record served lists."""
    rows = [
        {
            "list_id": each.list_id,
            "shelf": each.shelf,
            "version": each.version,
            "user_id": each.user,
            "items": each.items,
            "fallback": each.fallback,
            "at": each.at,
        }
        for each in lists
    ]
    connection.execute(insert(served_lists), rows)


def get(connection: Connection, list_id: str) -> ServedList:
    """One served list. Raises NotFoundError."""
    row = connection.execute(select(served_lists).where(served_lists.c.list_id == list_id)).one_or_none()
    if row is None:
        raise NotFoundError(f"no list {list_id!r} was served", where="list_id")
    return ServedList(
        list_id=row.list_id,
        shelf=row.shelf,
        version=row.version,
        user=row.user_id,
        at=row.at,
        items=row.items,
        fallback=row.fallback,
    )


def forget_user(connection: Connection, user: str) -> int:
    """Remove every list that was served to a user; answers how many."""
    return connection.execute(delete(served_lists).where(served_lists.c.user_id == user)).rowcount
