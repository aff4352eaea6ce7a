"""The interactions of a dataset version, as kept."""

from __future__ import annotations

from pathlib import Path

import pyarrow.parquet as pq

from gleaner.core.data.rows import InteractionRows

COLUMNS = ("user", "item", "kind", "time", "value", "part")


def read_rows(path: Path, scale: tuple[float, float] | None = None) -> InteractionRows:
    """The interactions of a version, ids as codes; scale: the declared lowest and highest value."""
    wanted = [name for name in pq.read_schema(path).names if name in COLUMNS]
    table = pq.read_table(path, columns=wanted, read_dictionary=["user", "item", "kind", "part"])
    return InteractionRows.from_arrow(table, scale)
