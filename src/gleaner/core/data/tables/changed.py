"""Tables of items and users with some cells set anew."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import polars as pl


def with_cells(frame: pl.DataFrame, row_of: Mapping[str, int], cells: Iterable[tuple[str, str, Any]]) -> pl.DataFrame:
    """The frame with cells set: (id, column, value), the last of one cell holds. Rows and columns that it lacks are
    passed over, and without any other cell it is the same object. row_of: the row of every id."""
    wanted: dict[str, dict[int, Any]] = {}
    for row_id, name, value in cells:
        row = row_of.get(row_id)
        if row is not None and name in frame.columns and name != "id":
            wanted.setdefault(name, {})[row] = value
    if not wanted:
        return frame
    return frame.with_columns(_set(frame[name], by_row) for name, by_row in wanted.items())


def _set(column: pl.Series, by_row: dict[int, Any]) -> pl.Series:
    """A column with some of its cells set."""
    if column.dtype.is_temporal():
        values = pl.Series(list(by_row.values()), dtype=pl.String).str.to_datetime(strict=False).cast(column.dtype)
    else:
        values = pl.Series(list(by_row.values()), dtype=column.dtype)
    places = pl.DataFrame({"row": pl.Series(list(by_row), dtype=pl.UInt32), "new": values, "set": True})
    rows = pl.DataFrame({"row": pl.Series(range(len(column)), dtype=pl.UInt32), "old": column})
    both = rows.join(places, on="row", how="left", maintain_order="left")
    chosen = pl.when(pl.col("set").fill_null(False)).then("new").otherwise("old").alias(column.name)
    return both.select(chosen).to_series()
