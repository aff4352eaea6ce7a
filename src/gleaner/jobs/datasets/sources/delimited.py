"""CSV, TSV and their like, read in batches of text columns, refusing what is not whole."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import polars as pl
import pyarrow as pa
import pyarrow.csv as arrow_csv

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.base import BadRow, Batch, OnBatch, TableSource, excerpt
from gleaner.jobs.datasets.sources.streams import STAND_IN, TextStream, head_lines

BLOCK_BYTES = 2 << 20
CANDIDATES = (",", "\t", ";", "|", "::")
KEPT_BAD_ROWS = 5
NUMBER = re.compile(r"[+-]?\d+(\.\d+)?([eE][+-]?\d+)?")


def shown(separator: str) -> str:
    """A separator as one would type it."""
    return "tab" if separator == "\t" else repr(separator)


def find_separator(lines: list[str], *, quotes: bool = True) -> str | None:
    """The candidate that cuts every line into the same number of cells, at least two; None when none does."""
    widths = {}
    for candidate in CANDIDATES:
        counts = {len(_cells(line, candidate, quotes)) for line in lines}
        if len(counts) == 1 and (cells := counts.pop()) > 1:
            widths[candidate] = cells
    if "::" in widths and "|" not in widths:
        return "::"
    return max(widths, key=lambda candidate: widths[candidate]) if widths else None


def _cells(line: str, separator: str, quotes: bool) -> list[str]:
    # what stands in quotes cuts nothing
    return (re.sub(r'"[^"]*"', "", line) if quotes else line).split(separator)


@dataclass
class DelimitedSource(TableSource):
    """One delimited text file. Rows are numbered as an editor shows them: the header is row 1.

    separator: one character or several; None finds it from the first lines. quotes: whether a cell may stand in
    double quotes; not with a separator of several characters, whose files do not quote.
    """

    path: Path
    separator: str | None = None
    header: bool = True
    quotes: bool | None = None
    stream: TextStream = field(init=False)
    ragged: DataError | None = field(init=False, default=None)

    def __post_init__(self) -> None:
        if self.path.stat().st_size == 0:
            raise DataError(f"{self.name} is empty", where=self.name)
        given = self.separator
        lines = head_lines(self.path, self.name)
        self._separator_seen = find_separator(lines, quotes=self.quotes is not False)
        usual = "\t" if re.search(r"\.(tsv|tab)(\.\w+)?$", self.name.lower()) else ","
        self.separator = given or self._separator_seen or usual
        if self.quotes is None:
            self.quotes = len(self.separator) == 1
        elif self.quotes and len(self.separator) > 1:
            raise DataError("cells cannot stand in quotes with a separator of several characters", where="quotes")
        self.format = "tsv" if self.separator == "\t" else "csv"
        reader = self._open(None)
        try:
            self.columns = reader.schema.names
        except UnicodeDecodeError as error:
            self.stream.close()
            where = f"{self.name} row 1"
            raise DataError(f"{where} is not UTF-8 text; save the file as UTF-8", where=where) from error
        compression = self.stream.compression
        self.stream.close()
        self.details = {
            "separator": shown(self.separator)
            + ("" if given or self._separator_seen is None else " (found in the first lines)"),
            "header": "yes" if self.header else "no",
        } | ({"compression": compression} if compression else {})
        repeated = sorted({name for name in self.columns if self.columns.count(name) > 1})
        if repeated:
            raise DataError(
                f"{self.name}: the header names column {repeated[0]!r} twice{self.hint()}", where=repeated[0]
            )

    @property
    def first_row(self) -> int:
        """Number of the first row of data."""
        return 2 if self.header else 1

    @property
    def looks_headless(self) -> bool:
        """Whether the header line holds numbers, as data does and names do not."""
        return self.header and any(NUMBER.fullmatch(name.strip()) for name in self.columns)

    def hint(self) -> str:
        """Wrong separator, or a header taken for data or the reverse."""
        if len(self.columns) == 1 and self._separator_seen and self._separator_seen != self.separator:
            return f"; the separator seems to be {shown(self._separator_seen)}, not {shown(self.separator or ',')}"
        if self.looks_headless:
            return "; the first line looks like data: if there is no header, say so, and columns are called f0, f1, ..."
        return ""

    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Yield batches of text. Raises DataError on a row with too few or too many cells (unless such rows are
        skipped), on bytes that are not UTF-8, on a quote that is never closed."""
        reader = self._open(columns)
        try:
            yield from self._read(reader, on_batch)
        finally:
            self.stream.close()

    def _read(self, reader: arrow_csv.CSVStreamingReader, on_batch: OnBatch) -> Iterator[Batch]:
        row = self.first_row
        while True:
            try:
                batch = reader.read_next_batch()
            except StopIteration:
                break
            except pa.ArrowInvalid as error:
                raise self._unreadable(error, row) from error
            if batch.num_rows:
                frame = pl.DataFrame(pl.from_arrow(batch))
                if not self.header and row == 1:
                    self._require_no_header(frame)
                yield Batch(frame, row)
                row += batch.num_rows
            on_batch(self.stream.done)
        if self._ends_in_quotes:
            raise self._open_quote(row - 1)
        if row == self.first_row:
            raise DataError(f"{self.name} has a header but no rows", where=self.name)
        if self.stream.last not in (b"\n", b"\r"):
            self.notes.append(("warning", f"{self.name} does not end with a line break; it may have been cut off"))

    def _require_no_header(self, frame: pl.DataFrame) -> None:
        first = [str(cell).strip().lower() for cell in frame.row(0)]
        if first and all(re.fullmatch(r"[a-z][a-z_ ]*", cell) for cell in first) and set(first) & HEADER_WORDS:
            raise DataError(
                f"{self.name} row 1 looks like a header ({', '.join(first)}), though the import says there is none; "
                "leave --no-header out, or take the line away",
                where=f"{self.name} row 1",
            )

    @property
    def _ends_in_quotes(self) -> bool:
        """Whether all was read and a quote was left open."""
        return bool(self.quotes) and self.stream.ended and self.stream.quotes % 2 == 1

    def _open_quote(self, row: int) -> DataError:
        return DataError(
            f"{self.name} ends inside a quoted cell: the file was cut off, or a quote is not closed; if quotes mean "
            "nothing in this file, say so (--no-quotes)",
            where=f"{self.name} row {row}",
        )

    def _open(self, columns: list[str] | None) -> arrow_csv.CSVStreamingReader:
        assert self.separator is not None
        self.stream = TextStream(self.path, self.name, self.separator)
        wanted = columns or []
        single = self.separator if len(self.separator) == 1 else STAND_IN.decode()
        try:
            return arrow_csv.open_csv(
                self.stream,
                read_options=arrow_csv.ReadOptions(
                    use_threads=False, block_size=BLOCK_BYTES, autogenerate_column_names=not self.header
                ),
                parse_options=arrow_csv.ParseOptions(
                    delimiter=single,
                    quote_char='"' if self.quotes else False,
                    newlines_in_values=bool(self.quotes),
                    invalid_row_handler=self._refuse if columns else lambda row: "skip",
                ),
                convert_options=arrow_csv.ConvertOptions(
                    include_columns=wanted,
                    column_types=dict.fromkeys(wanted, pa.large_string()),
                    strings_can_be_null=False,
                ),
            )
        except pa.ArrowInvalid as error:
            self.stream.close()
            raise self._unreadable(error, self.first_row) from error
        except DataError:
            self.stream.close()
            raise

    def _refuse(self, row: arrow_csv.InvalidRow) -> str:
        # raising here would lose the error on its way through the reader: it is kept, and raised by _unreadable
        short = row.actual_columns < row.expected_columns
        hint = "the file may have been cut off there" if short else "a cell with the separator in it needs quotes"
        text = excerpt(row.text.replace(STAND_IN.decode(), self.separator or ","))
        if self.skip_bad:
            self.n_bad += 1
            if len(self.bad_rows) < KEPT_BAD_ROWS:
                reason = f"{row.actual_columns} cells where the header has {row.expected_columns}"
                self.bad_rows.append(BadRow(row.number or 0, reason, text))
            return "skip"
        number = f"row {row.number}" if row.number is not None else "a row"
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
        match = re.search(r"Row #(\d+)", text)
        at = f"row {match.group(1)}" if match else f"after row {row - 1}"
        if "UTF8" in text:
            return DataError(f"{self.name} {at} is not UTF-8 text; save the file as UTF-8", where=f"{self.name} {at}")
        return DataError(f"{self.name} {at} cannot be read: {text}", where=f"{self.name} {at}")


HEADER_WORDS = {
    "user", "users", "userid", "user_id", "user id", "item", "items", "itemid", "item_id", "item id", "rating",
    "value", "score", "kind", "event", "time", "timestamp", "date", "member", "customer", "product", "id",
}  # fmt: skip
