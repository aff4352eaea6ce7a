"""Tables as they go out: JSON rows, CSV, Parquet."""

from __future__ import annotations

import io
from typing import Any

import polars as pl

from gleaner.core.data.tables.csv_cells import shown_cells


def json_rows(frame: pl.DataFrame) -> list[list[Any]]:
    """Rows as JSON values: times and dates as ISO text, numbers that JSON cannot say as null."""
    shown = frame.with_columns(
        pl.selectors.datetime(time_zone=None).dt.to_string("%Y-%m-%dT%H:%M:%S%.f"),
        pl.selectors.datetime(time_zone="*").dt.convert_time_zone("UTC").dt.to_string("%Y-%m-%dT%H:%M:%S%.fZ"),
        pl.selectors.date().dt.to_string("iso"),
        pl.selectors.time().cast(pl.String),
        pl.selectors.duration().dt.to_string("iso"),
        pl.selectors.decimal().cast(pl.Float64),
        pl.selectors.binary().cast(pl.String, strict=False),
    ).with_columns(pl.when(pl.selectors.float().is_finite()).then(pl.selectors.float()))
    return [list(row) for row in shown.iter_rows()]


def to_csv(frame: pl.DataFrame, *, exact: bool = False) -> bytes:
    """CSV; lists are joined by `|`. exact: cells that a spreadsheet would run stay as they are."""
    lists = [name for name, kind in frame.schema.items() if kind.base_type() == pl.List]
    flat = frame.with_columns(pl.col(name).cast(pl.List(pl.String)).list.join("|") for name in lists)
    if not exact:
        flat, _ = shown_cells(flat)
    return flat.write_csv(None, datetime_format="%Y-%m-%dT%H:%M:%S%.fZ").encode()


def to_parquet(frame: pl.DataFrame) -> bytes:
    """Parquet."""
    out = io.BytesIO()
    frame.write_parquet(out, compression="zstd")
    return out.getvalue()
