"""Read a CSV file in batches of text columns, refusing what is not whole."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

import pyarrow as pa
import pyarrow.csv as arrow_csv

from gleaner.core.errors import DataError

BLOCK_BYTES = 2 << 20
LONGEST_EXCERPT = 80


@dataclass
class CountingFile:
    """A binary file that tells how much was read, how many quotes it had and how it ended."""

    file: IO[bytes]
    position: int = 0
    quotes: int = 0
    last: bytes = b""
    closed: bool = False

    def read(self, size: int = -1) -> bytes:
        """Read, and take note."""
        data = self.file.read(size)
        self.position += len(data)
        self.quotes += data.count(b'"')
        self.last = data[-1:] or self.last
        return data

    def readable(self) -> bool:
        """It can be read."""
        return True

    def writable(self) -> bool:
        """It cannot be written."""
        return False

    def seekable(self) -> bool:
        """It cannot be sought."""
        return False

    def close(self) -> None:
        """Close the file below."""
        self.closed = True
        self.file.close()


@dataclass
class CsvSource:
    """One CSV file: its columns, then its rows as batches in which every column is text.

    name: what to call the file in messages. Rows are numbered as an editor shows them: the header is row 1.
    """

    path: Path
    name: str
    separator: str = ","
    header: bool = True
    columns: list[str] = field(init=False)
    counter: CountingFile = field(init=False)
    ragged: DataError | None = field(init=False, default=None)

    def __post_init__(self) -> None:
        if self.path.stat().st_size == 0:
            raise DataError(f"{self.name} is empty", where=self.name)
        self.columns = self._open(None).schema.names
        self.counter.close()
        repeated = sorted({name for name in self.columns if self.columns.count(name) > 1})
        if repeated:
            raise DataError(f"{self.name}: the header names column {repeated[0]!r} twice", where=repeated[0])

    @property
    def first_row(self) -> int:
        """Number of the first row of data."""
        return 2 if self.header else 1

    @property
    def done(self) -> float:
        """Share of the file read so far."""
        return self.counter.position / self.path.stat().st_size

    def require(self, column: str, role: str) -> None:
        """Raise DataError unless the file has this column."""
        if column not in self.columns:
            raise DataError(
                f"{self.name} has no column {column!r} (given as {role}); its columns are: {', '.join(self.columns)}",
                where=column,
            )

    def batches(self, columns: list[str], on_batch: Callable[[float], None]) -> Iterator[tuple[int, pa.RecordBatch]]:
        """Yield (number of the first row, batch). Raises DataError on a row with too few or too many cells, on bytes
        that are not UTF-8, on a quote that is never closed."""
        reader = self._open(columns)
        try:
            yield from self._read(reader, on_batch)
        finally:
            self.counter.close()

    def _read(
        self, reader: arrow_csv.CSVStreamingReader, on_batch: Callable[[float], None]
    ) -> Iterator[tuple[int, pa.RecordBatch]]:
        row = self.first_row
        while True:
            try:
                batch = reader.read_next_batch()
            except StopIteration:
                break
            except pa.ArrowInvalid as error:
                raise self._unreadable(error, row) from error
            if batch.num_rows:
                yield row, batch
                row += batch.num_rows
            on_batch(self.done)
        if self._ends_in_quotes:
            raise self._open_quote(row - 1)
        if row == self.first_row:
            raise DataError(f"{self.name} has a header but no rows", where=self.name)

    @property
    def _ends_in_quotes(self) -> bool:
        """Whether all was read and a quote was left open."""
        return self.counter.position == self.path.stat().st_size and self.counter.quotes % 2 == 1

    def _open_quote(self, row: int) -> DataError:
        return DataError(
            f"{self.name} ends inside a quoted cell: the file was cut off, or a quote is not closed",
            where=f"{self.name} row {row}",
        )

    @property
    def ends_with_newline(self) -> bool:
        """Whether the last row was ended as rows are; if not, the file may have been cut within its last cell."""
        return self.counter.last in (b"\n", b"\r")

    def _open(self, columns: list[str] | None) -> arrow_csv.CSVStreamingReader:
        self.counter = CountingFile(self.path.open("rb"))
        wanted = columns or []
        try:
            return arrow_csv.open_csv(
                self.counter,
                read_options=arrow_csv.ReadOptions(
                    use_threads=False, block_size=BLOCK_BYTES, autogenerate_column_names=not self.header
                ),
                parse_options=arrow_csv.ParseOptions(
                    delimiter=self.separator,
                    newlines_in_values=True,
                    invalid_row_handler=self._refuse if columns else lambda row: "skip",
                ),
                convert_options=arrow_csv.ConvertOptions(
                    include_columns=wanted,
                    column_types=dict.fromkeys(wanted, pa.large_string()),
                    strings_can_be_null=False,
                ),
            )
        except pa.ArrowInvalid as error:
            raise self._unreadable(error, self.first_row) from error

    def _refuse(self, row: arrow_csv.InvalidRow) -> str:
        # raising here would lose the error on its way through the reader: it is kept, and raised by _unreadable
        number = f"row {row.number}" if row.number is not None else "a row"
        text = row.text if len(row.text) <= LONGEST_EXCERPT else row.text[:LONGEST_EXCERPT] + "..."
        short = row.actual_columns < row.expected_columns
        hint = "the file may have been cut off there" if short else "a cell with the separator in it needs quotes"
        self.ragged = DataError(
            f"{self.name} {number} has {row.actual_columns} cells where the header has {row.expected_columns} "
            f"({text!r}); {hint}",
            where=f"{self.name} {number}",
        )
        return "error"

    def _unreadable(self, error: pa.ArrowInvalid, row: int) -> DataError:
        if self._ends_in_quotes:
            return self._open_quote(row)
        if self.ragged:
            return self.ragged
        text = str(error)
        if "Empty CSV file" in text:
            return DataError(f"{self.name} has no rows and no complete header", where=self.name)
        found = re.search(r"Row #(\d+)", text)
        at = f"row {found.group(1)}" if found else f"after row {row - 1}"
        if "UTF8" in text:
            return DataError(f"{self.name} {at} is not UTF-8 text; save the file as UTF-8", where=f"{self.name} {at}")
        return DataError(f"{self.name} {at} cannot be read: {text}", where=f"{self.name} {at}")
