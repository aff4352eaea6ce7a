"""Cells of items and users that are other than the tables of a dataset's versions say."""

from __future__ import annotations

import json
from typing import Any, Literal, NamedTuple

from sqlalchemy import Connection, Text, cast, delete, func, select, text

from gleaner.core.errors import ConflictError
from gleaner.store.database.engine import notify
from gleaner.store.database.tables import column_changes, versions

CHANNEL = "gleaner_columns"
CELLS_PER_INSERT = 5_000
MAX_BYTES = 64 * 2**20
"""Changed cells of one table that no version contains yet: every shelf of the dataset holds them."""

UPSERT = """
INSERT INTO column_changes (dataset_id, side, row_id, name, value)
SELECT :dataset, :side, * FROM json_to_recordset(CAST(:rows AS json)) AS sent (row_id text, name text, value json)
ON CONFLICT ON CONSTRAINT pk_column_changes DO UPDATE SET
    value = excluded.value, at = clock_timestamp(), seq = nextval('column_changes_seq')
"""
LAST_DRAWN = "SELECT CASE WHEN is_called THEN last_value ELSE 0 END FROM column_changes_seq"
Side = Literal["item", "user"]


class Cell(NamedTuple):
    """One changed cell. seq: its number among all changes."""

    row_id: str
    name: str
    value: Any
    seq: int


def put_all(
    connection: Connection, dataset_id: int, side: Side, cells: list[tuple[str, str, Any]], origin: str
) -> None:
    """Set cells: (id of the row, column, value). Other processes than `origin` are notified on commit.

    In order of their keys, so that two batches that share some wait for one another instead of for ever.
    """
    last = {(row, name): value for row, name, value in cells}
    rows = [{"row_id": row, "name": name, "value": last[row, name]} for row, name in sorted(last)]
    for start in range(0, len(rows), CELLS_PER_INSERT):
        document = json.dumps(rows[start : start + CELLS_PER_INSERT])
        connection.execute(text(UPSERT), {"dataset": dataset_id, "side": side, "rows": document})
    _require_room(connection, dataset_id, side)
    notify(connection, CHANNEL, f"{dataset_id} {origin}")


def _require_room(connection: Connection, dataset_id: int, side: Side) -> None:
    """Raise ConflictError where the changed cells that no version contains are too many to be held in memory."""
    size = func.coalesce(func.sum(func.octet_length(cast(column_changes.c.value, Text))), 0)
    upto = select(func.max(versions.c.changes_upto)).where(versions.c.dataset_id == dataset_id).scalar_subquery()
    of_table = (column_changes.c.dataset_id == dataset_id) & (column_changes.c.side == side)
    query = select(size).where(of_table, column_changes.c.seq > func.coalesce(upto, 0))
    n_bytes: int = connection.execute(query).scalar_one()
    if n_bytes > MAX_BYTES:
        sizes = f"the changed cells of {side}s have {n_bytes:,} bytes, and at most {MAX_BYTES:,} are held"
        raise ConflictError(f"{sizes} beside a version; nothing was changed: gather events first", where="changes")


def cells_of(connection: Connection, dataset_id: int, side: Side, after: int = 0) -> list[Cell]:
    """Return the changed cells of one table numbered above `after`, in the order of their changes."""
    of_table = (column_changes.c.dataset_id == dataset_id) & (column_changes.c.side == side)
    query = select(column_changes).where(of_table, column_changes.c.seq > after).order_by(column_changes.c.seq)
    return [Cell(row.row_id, row.name, row.value, row.seq) for row in connection.execute(query)]


def settled_upto(connection: Connection) -> int:
    """Return the number of the last change. Block further changes until the transaction ends.

    Waits for changes that are being written, so no change with a lower number can appear later.
    """
    connection.execute(text("LOCK TABLE column_changes IN SHARE MODE"))
    return connection.execute(text(LAST_DRAWN)).scalar_one()


def count_rows(connection: Connection, dataset_id: int, after: int) -> int:
    """Count the rows with a cell that was changed by a change numbered above `after`."""
    changed = (
        select(column_changes.c.side, column_changes.c.row_id)
        .where(column_changes.c.dataset_id == dataset_id, column_changes.c.seq > after)
        .distinct()
        .subquery()
    )
    return connection.scalar(select(func.count()).select_from(changed)) or 0


def forget_user(connection: Connection, dataset_id: int, user: str) -> None:
    """Remove the cells of a user."""
    mine = (column_changes.c.side == "user") & (column_changes.c.row_id == user)
    connection.execute(delete(column_changes).where(column_changes.c.dataset_id == dataset_id, mine))
    notify(connection, CHANNEL, str(dataset_id))
