"""The log of served lists."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from sqlalchemy import Connection, delete, func, select

from gleaner.core.errors import UnknownNameError
from gleaner.store.database.tables import datasets, served_lists, shelf_versions, shelves, versions
from gleaner.store.records.shelves import ServedListRecord

COPY = "COPY served_lists (list_id, shelf, version, user_id, items, fallback, at) FROM STDIN"


class ServedRow(NamedTuple):
    """One served list, in the order of the columns copied."""

    list_id: str
    shelf: str
    version: int
    user: str | None
    items: list[str]
    fallback: str | None
    at: datetime


def add_all(connection: Connection, lists: list[ServedRow]) -> None:
    """Record served lists, by COPY: a list then costs the service a few microseconds."""
    raw = connection.connection.dbapi_connection
    assert raw is not None
    with raw.cursor() as cursor, cursor.copy(COPY) as rows:  # type: ignore[attr-defined]
        for list_id, shelf, version, user, items, fallback, at in lists:
            rows.write_row((list_id, shelf, version, user, _array(items), fallback, at))


def _array(items: list[str]) -> str:
    """A text array as PostgreSQL writes it; the driver takes seven times as long over one."""
    quoted = [item.replace("\\", "\\\\").replace('"', '\\"') for item in items]
    return '{"' + '","'.join(quoted) + '"}' if items else "{}"


def get(connection: Connection, list_id: str) -> ServedListRecord:
    """One served list. Raises UnknownNameError."""
    row = connection.execute(select(served_lists).where(served_lists.c.list_id == list_id)).one_or_none()
    if row is None:
        raise UnknownNameError(f"no list {list_id!r} was served", where="list_id")
    return ServedListRecord(
        list_id=row.list_id,
        shelf=row.shelf,
        version=row.version,
        user=row.user_id,
        at=row.at,
        items=row.items,
        fallback=row.fallback,
    )


def shown_since(connection: Connection, dataset: str, since: datetime, users: Sequence[str]) -> list[tuple[str, str]]:
    """The distinct (user, item) pairs that lists of a dataset's shelves have shown to some users since a moment."""
    of_dataset = (
        select(shelves.c.name)
        .join(shelf_versions, shelf_versions.c.shelf_id == shelves.c.id)
        .join(versions, versions.c.id == shelf_versions.c.version_id)
        .join(datasets, datasets.c.id == versions.c.dataset_id)
        .where(datasets.c.name == dataset)
    )
    query = (
        select(served_lists.c.user_id, func.unnest(served_lists.c["items"]))
        .where(served_lists.c.at >= since, served_lists.c.user_id == func.any(list(users)))
        .where(served_lists.c.shelf.in_(of_dataset))
        .distinct()
    )
    return [(user, item) for user, item in connection.execute(query)]


def prune(connection: Connection, days: float) -> int:
    """Remove lists that were served more than so many days ago; return how many."""
    old = served_lists.c.at < func.now() - timedelta(days=days)
    return connection.execute(delete(served_lists).where(old)).rowcount


def forget_user(connection: Connection, user: str) -> int:
    """Remove every list that was served to a user; answers how many."""
    return connection.execute(delete(served_lists).where(served_lists.c.user_id == user)).rowcount
