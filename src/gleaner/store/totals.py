"""How many of each thing there are."""

from __future__ import annotations

from sqlalchemy import Connection, func, select

from gleaner.store.database.tables import datasets, models, runs, shelves

COUNTED = {"datasets": datasets, "runs": runs, "models": models, "shelves": shelves}


def counted(connection: Connection) -> dict[str, int]:
    """Rows of each."""
    return {name: connection.scalar(select(func.count()).select_from(table)) or 0 for name, table in COUNTED.items()}
