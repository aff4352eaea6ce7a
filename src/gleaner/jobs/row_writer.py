"""Frames, one after the other, into one file."""

from __future__ import annotations

from pathlib import Path
from typing import IO, Self

import polars as pl
import pyarrow.parquet as pq

from gleaner.wire.exports import Format


class RowWriter:
    """Parquet (zstd), CSV with headings, or a JSON object a line. All frames have the same columns."""

    def __init__(self, path: Path, form: Format) -> None:
        self.path, self.form, self.rows = path, form, 0
        self._parquet: pq.ParquetWriter | None = None
        self._file: IO[bytes] | None = None

    def __enter__(self) -> Self:
        if self.form != "parquet":
            self._file = self.path.open("wb")
        return self

    def write(self, frame: pl.DataFrame) -> None:
        """Add the rows of a frame."""
        if self._file is None:
            table = frame.to_arrow()
            self._parquet = self._parquet or pq.ParquetWriter(self.path, table.schema, compression="zstd")
            self._parquet.write_table(table)
        elif self.form == "csv":
            frame.write_csv(self._file, include_header=self._file.tell() == 0)
        else:
            frame.write_ndjson(self._file)
        self.rows += frame.height

    def __exit__(self, *_: object) -> None:
        for each in (self._parquet, self._file):
            if each is not None:
                each.close()
