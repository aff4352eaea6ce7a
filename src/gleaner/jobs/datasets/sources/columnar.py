"""Parquet and Arrow IPC files, batch by batch."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.base import Batch, OnBatch, TableSource

ROWS = 1 << 16
DAMAGED = (pa.ArrowException, OSError, UnicodeDecodeError, pl.exceptions.PolarsError, pl.exceptions.PanicException)
"""What readers raise on a file that is damaged. Names of columns are decoded when they are looked at, or not at all."""


def _plain(schema: pa.Schema, name: str) -> list[str]:
    try:
        names = list(schema.names)
    except UnicodeDecodeError as error:
        raise DataError(f"{name} is damaged: the name of a column is not UTF-8", where=name) from error
    repeated = sorted({each for each in names if names.count(each) > 1})
    if repeated:
        raise DataError(f"{name} has two columns called {repeated[0]!r}", where=repeated[0])
    return names


@dataclass
class ParquetSource(TableSource):
    """One Parquet file. Rows are counted from 1."""

    path: Path

    def __post_init__(self) -> None:
        self.format = "parquet"
        try:
            self._file = pq.ParquetFile(self.path)
        except DAMAGED as error:
            raise DataError(
                f"{self.name} is no Parquet file, or is damaged: {_short(error)}", where=self.name
            ) from error
        self.columns = _plain(self._file.schema_arrow, self.name)
        self.details = {"row groups": str(self._file.metadata.num_row_groups)}

    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Yield batches of typed columns."""
        total, row = self._file.metadata.num_rows, 1
        if total == 0:
            raise DataError(f"{self.name} has no rows", where=self.name)
        try:
            for batch in self._file.iter_batches(ROWS, columns=columns):
                yield Batch(pl.DataFrame(pl.from_arrow(batch)), row)
                row += batch.num_rows
                on_batch((row - 1) / total)
        except DAMAGED as error:
            at = self.at(row)
            raise DataError(f"{at}: the file is damaged: {_short(error)}", where=at) from error
        if row <= total:
            text = f"{self.name} is damaged: it says that it has {total:,} rows, and {row - 1:,} could be read"
            raise DataError(text, where=self.name)


@dataclass
class ArrowSource(TableSource):
    """One Arrow IPC file or stream. Rows are counted from 1."""

    path: Path

    def __post_init__(self) -> None:
        self.format = "arrow"
        reader = self._open()
        self.columns = _plain(reader.schema, self.name)

    def _open(self) -> pa.RecordBatchFileReader | pa.RecordBatchStreamReader:
        with self.path.open("rb") as file:
            is_file = file.read(6) == b"ARROW1"
        try:
            opened = pa.memory_map(str(self.path))
            return pa.ipc.open_file(opened) if is_file else pa.ipc.open_stream(opened)
        except DAMAGED as error:
            raise DataError(
                f"{self.name} is no Arrow IPC file, or is damaged: {_short(error)}", where=self.name
            ) from error

    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Yield batches of typed columns."""
        reader, row = self._open(), 1
        try:
            for batch in self._each(reader, on_batch):
                batch.validate(full=True)
                frame = pl.DataFrame(pl.from_arrow(batch.select(columns)))
                if frame.height:
                    yield Batch(frame, row)
                row += frame.height
        except DAMAGED as error:
            at = self.at(row)
            raise DataError(f"{at}: the file is damaged: {_short(error)}", where=at) from error
        if row == 1:
            raise DataError(f"{self.name} has no rows", where=self.name)

    @staticmethod
    def _each(
        reader: pa.RecordBatchFileReader | pa.RecordBatchStreamReader, on_batch: OnBatch
    ) -> Iterator[pa.RecordBatch]:
        if isinstance(reader, pa.RecordBatchStreamReader):
            yield from reader
            return
        for place in range(reader.num_record_batches):
            yield reader.get_batch(place)
            on_batch((place + 1) / reader.num_record_batches)


def _short(error: BaseException) -> str:
    return str(error).split("\n", 1)[0]
