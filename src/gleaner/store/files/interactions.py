"""The interactions of a dataset version, as kept."""

from __future__ import annotations

from pathlib import Path

import pyarrow.parquet as pq

from gleaner.core.data.rows import InteractionRows

COLUMNS = ("user", "item", "kind", "time", "value", "part")


def read_rows(path: Path, scale: tuple[float, float] | None = None, *, with_context: bool = False) -> InteractionRows:
    """The interactions of a version, ids as codes; scale: the declared lowest and highest value. with_context: with the
    columns that were kept beside each interaction, and with the parts of its time."""
    names = pq.read_schema(path).names
    beside = [name for name in names if name not in COLUMNS] if with_context else []
    wanted = [name for name in names if name in COLUMNS] + beside
    table = pq.read_table(path, columns=wanted, read_dictionary=["user", "item", "kind", "part"])
    rows = InteractionRows.from_arrow(table, scale, beside)
    return rows.with_time_parts() if with_context else rows
