"""Tables, one after the other, into one file."""

from __future__ import annotations

from pathlib import Path
from typing import IO, Self

import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq

from gleaner.core.data.tables.csv_cells import shown_cells
from gleaner.wire.exports import Format


class TableWriter:
    """Parquet (zstd), CSV with headings, or a JSON object a line. All tables have the same columns.

    exact: CSV cells that a spreadsheet would run stay as they are; else each gets an apostrophe. changed: how many did.
    """

    def __init__(self, path: Path, form: Format, *, exact: bool = False) -> None:
        self.path, self.form, self.exact = path, form, exact
        self.rows = self.changed = 0
        self._parquet: pq.ParquetWriter | None = None
        self._file: IO[bytes] | None = None

    def __enter__(self) -> Self:
        if self.form != "parquet":
            self._file = self.path.open("wb")
        return self

    def write(self, table: pa.Table) -> None:
        """Add the rows of a table. Text may come as dictionary arrays."""
        if self._file is None:
            self._parquet = self._parquet or _parquet(self.path, table.schema)
            self._parquet.write_table(table)
        elif self.form == "csv":
            frame, changed = (plain_frame(table), 0) if self.exact else shown_cells(plain_frame(table))
            frame.write_csv(self._file, include_header=self._file.tell() == 0)
            self.changed += changed
        else:
            plain_frame(table).write_ndjson(self._file)
        self.rows += table.num_rows

    def __exit__(self, *_: object) -> None:
        for each in (self._parquet, self._file):
            if each is not None:
                each.close()


def _parquet(path: Path, schema: pa.Schema) -> pq.ParquetWriter:
    """Figures hardly shrink, so only the rest is packed. Without our schema beside it, text reads back as text."""
    packed = {field.name: "NONE" if pa.types.is_floating(field.type) else "ZSTD" for field in schema}
    repeated = [field.name for field in schema if not pa.types.is_floating(field.type)]
    return pq.ParquetWriter(
        path, schema, compression=packed, compression_level=None, use_dictionary=repeated, store_schema=False
    )


def plain_frame(table: pa.Table) -> pl.DataFrame:
    """The table with text as text."""
    frame = pl.DataFrame(pl.from_arrow(table))
    return frame.with_columns(pl.col(pl.Categorical).cast(pl.String))
