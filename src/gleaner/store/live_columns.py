"""Cells of items and users that are other than the tables of a dataset's versions say."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal, NamedTuple

from sqlalchemy import Connection, delete, func, select, text
from sqlalchemy.dialects.postgresql import insert as upsert

from gleaner.store.database.engine import notify
from gleaner.store.database.tables import TRANSACTION, column_changes

CHANNEL = "gleaner_columns"
Side = Literal["item", "user"]


class Cell(NamedTuple):
    """One cell, and since when it holds."""

    row_id: str
    name: str
    value: Any
    at: datetime


def put_all(
    connection: Connection, dataset_id: int, side: Side, cells: list[tuple[str, str, Any]], origin: str
) -> None:
    """Set cells: (id of the row, column, value). Other processes than `origin` are notified on commit.

    In order of their keys, so that two batches that share some wait for one another instead of for ever.
    """
    last = {(row, name): value for row, name, value in cells}
    values = [
        {"dataset_id": dataset_id, "side": side, "row_id": row, "name": name, "value": last[row, name]}
        for row, name in sorted(last)
    ]
    insert = upsert(column_changes).values(values)
    fresh = {"value": insert.excluded.value, "at": func.clock_timestamp(), "xact": TRANSACTION}
    connection.execute(insert.on_conflict_do_update(constraint="pk_column_changes", set_=fresh))
    notify(connection, CHANNEL, f"{dataset_id} {origin}")


def cells_of(connection: Connection, dataset_id: int, side: Side) -> list[Cell]:
    """Every changed cell of one table, those changed last at the end."""
    of_row = (column_changes.c.dataset_id == dataset_id) & (column_changes.c.side == side)
    rows = connection.execute(select(column_changes).where(of_row).order_by(column_changes.c.at))
    return [Cell(row.row_id, row.name, row.value, row.at) for row in rows]


def settled(connection: Connection, dataset_id: int) -> tuple[dict[Side, list[Cell]], datetime]:
    """Every changed cell of both tables, and as of when: whoever is changing some now is waited for, so that none with
    an earlier moment comes later."""
    connection.execute(text("LOCK TABLE column_changes IN SHARE MODE"))
    as_of = connection.execute(select(func.clock_timestamp())).scalar_one()
    sides: tuple[Side, ...] = ("item", "user")
    return {side: cells_of(connection, dataset_id, side) for side in sides}, as_of


def count_rows(connection: Connection, dataset_id: int, since: datetime) -> int:
    """Rows with a cell that changed since a moment."""
    changed = (
        select(column_changes.c.side, column_changes.c.row_id)
        .where(column_changes.c.dataset_id == dataset_id, column_changes.c.at >= since)
        .distinct()
        .subquery()
    )
    return connection.scalar(select(func.count()).select_from(changed)) or 0


def forget_user(connection: Connection, dataset_id: int, user: str) -> None:
    """Remove the cells of a user."""
    mine = (column_changes.c.side == "user") & (column_changes.c.row_id == user)
    connection.execute(delete(column_changes).where(column_changes.c.dataset_id == dataset_id, mine))
    notify(connection, CHANNEL, str(dataset_id))
