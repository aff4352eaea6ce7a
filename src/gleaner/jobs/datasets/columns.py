"""Turn cells into ids, numbers and times. What does not fit is reported cell by cell; the caller refuses or drops
it."""

from __future__ import annotations

from dataclasses import dataclass, field
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import polars as pl

from gleaner.core.data.ids import MAX_ID_BYTES
from gleaner.core.data.tables.column_types import ReadColumn
from gleaner.core.data.tables.time_formats import (
    EPOCH_UNITS,
    OFFSET_FORMATS,
    fitting_formats,
    is_ambiguous,
    read_format,
)
from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.base import Batch, TableSource, excerpt

TIME_HINT = "is not a time such as 2026-03-01T09:30:00Z, 01.03.2026 09:30 or epoch seconds; declare its format"
EXACT_UP_TO = 2**53


def read_ids(cells: pl.Series) -> tuple[ReadColumn, str | None]:
    """Ids as text, to the letter, and a note where the file held something else. Wrong where empty."""
    note = None
    dtype = cells.dtype
    if dtype.is_integer():
        note = "ids came as numbers; they are kept as their digits"
        cells = cells.cast(pl.String)
    elif dtype.is_float():
        whole = (cells.is_nan() | (cells.floor() == cells) & (cells.abs() < EXACT_UP_TO)).fill_null(True)
        note = "ids came as floating-point numbers; they are kept as their digits, without the .0"
        texts = cells.fill_nan(None).cast(pl.Int64, strict=False).cast(pl.String)
        if not whole.all():
            return ReadColumn(
                texts, ~whole, "is a number with a fraction or too large to be exact, and an id is neither"
            ), note
        cells = texts
    elif dtype != pl.String:
        cells = cells.cast(pl.String)
    empty = (cells.str.len_bytes() == 0).fill_null(True)
    too_long = (cells.str.len_bytes() > MAX_ID_BYTES).fill_null(False)
    if too_long.any():
        hint = f"is empty or has more than {MAX_ID_BYTES:,} bytes, and every row needs an id there"
        return ReadColumn(cells, empty | too_long, hint), note
    return ReadColumn(cells, empty if empty.any() else None, "is empty, and every row needs an id there"), note


def read_numbers(cells: pl.Series) -> ReadColumn:
    """float64; an empty cell is missing, never zero. Wrong where it is no finite number."""
    if cells.dtype.is_numeric():
        numbers = cells.cast(pl.Float64).fill_nan(None)
        wrong = numbers.is_infinite().fill_null(False)
        return ReadColumn(numbers, wrong if wrong.any() else None, "is not a number")
    if cells.dtype != pl.String:
        cells = cells.cast(pl.String)
    stripped = cells.str.strip_chars()
    numbers = stripped.cast(pl.Float64, strict=False)
    filled = (stripped.str.len_bytes() > 0).fill_null(False)
    wrong = filled & ~numbers.is_finite().fill_null(False)
    numbers = numbers.zip_with(filled & ~wrong, pl.Series([None] * len(cells), dtype=pl.Float64))
    return ReadColumn(numbers, wrong if wrong.any() else None, "is not a number")


def read_texts(cells: pl.Series) -> ReadColumn:
    """Text; an empty cell is missing."""
    return ReadColumn(cells.cast(pl.String).replace("", None))


@dataclass
class TimeReader:
    """Reads one time column in one format: the declared one, or the one that reads most cells of the first batch.

    form: a strptime format, or `s`, `ms` or `us` for epoch counts. zone: of times that name none.
    """

    file: str
    column: str
    form: str | None = None
    zone: str | None = None
    way: str = field(default="", init=False)

    def __post_init__(self) -> None:
        if self.zone:
            try:
                ZoneInfo(self.zone)
            except (ZoneInfoNotFoundError, ValueError) as error:
                raise DataError(f"there is no time zone {self.zone!r}", where="zone") from error
        self.way = self.form or ""

    def parse(self, cells: pl.Series) -> ReadColumn:
        """Return UTC microseconds; an empty cell is missing. Wrong: cells of another format, skipped local times."""
        read, skipped = self.parse_parts(cells)
        if skipped.wrong is None:
            return read
        wrong = skipped.wrong if read.wrong is None else read.wrong | skipped.wrong
        return ReadColumn(read.cells, wrong, read.problem if read.wrong is not None else skipped.problem)

    def parse_parts(self, cells: pl.Series) -> tuple[ReadColumn, ReadColumn]:
        """Return the times twice: wrong in the first are cells of another format, in the second local times that a
        clock change skips.

        Raises DataError if the cells do not tell day from month, or for a format that is none.
        """
        if cells.dtype.base_type() in (pl.Datetime, pl.Date):
            named = getattr(cells.dtype, "time_zone", None)
            self.way = "typed" if named else "naive"
            return self._read_column(cells.cast(pl.Datetime("us", named)), cells.is_not_null(), "")
        stripped = cells.cast(pl.String).str.strip_chars()
        filled = (stripped.str.len_bytes() > 0).fill_null(False)
        cleaned = stripped.zip_with(filled, pl.Series([None] * len(cells), dtype=pl.String))
        if not self.way and filled.any():
            self.way = self._settle(cleaned)
        if not self.way:
            nothing = pl.Series(cells.name, [None] * len(cells), dtype=pl.Datetime("us", "UTC"))
            return ReadColumn(nothing, filled if filled.any() else None, TIME_HINT), ReadColumn(nothing)
        which = "declared format" if self.form else "format of most cells,"
        return self._read_column(self._read(cleaned), filled, f"is not written like the {which} {self.way!r}")

    def refusal(self, source: TableSource, batch: Batch, read: ReadColumn) -> DataError:
        """Return the error for the first cell that is no time."""
        return refusal(source, batch, self.column, batch.frame[self.column], read)

    @property
    def assumes_utc(self) -> bool:
        """Whether the cells name no zone and none was declared, so that UTC is assumed."""
        named = self.way in ("", "typed", *EPOCH_UNITS, *OFFSET_FORMATS) or "%z" in self.way or "%#z" in self.way
        return not named and self.zone is None

    def _settle(self, cells: pl.Series) -> str:
        formats = fitting_formats(cells)
        if formats and is_ambiguous(formats):
            best = [each for each in formats if each.share == formats[0].share]
            listed = " or ".join(f"{each.form!r} ({each.label.partition(',')[0]})" for each in best)
            example = cells.drop_nulls()[0]
            raise DataError(
                f"{self.file}: column {self.column!r}: times such as {example!r} do not tell day from month; "
                f"declare the format, {listed}",
                where="format",
            )
        if formats:
            return formats[0].form
        # counts from shortly after 1970, which the report of the import questions
        return "s" if cells.drop_nulls().cast(pl.Float64, strict=False).null_count() == 0 else ""

    def _read(self, cells: pl.Series) -> pl.Series:
        try:
            return read_format(cells, self.way)
        except (pl.exceptions.ComputeError, pl.exceptions.InvalidOperationError) as error:
            raise DataError(f"{self.form!r} is no time format", where="format") from error

    def _read_column(self, times: pl.Series, filled: pl.Series, problem: str) -> tuple[ReadColumn, ReadColumn]:
        wrong = filled & times.is_null()
        if getattr(times.dtype, "time_zone", None):
            utc = times.dt.convert_time_zone("UTC")
        else:
            local = times.dt.replace_time_zone(self.zone or "UTC", ambiguous="earliest", non_existent="null")
            utc = local.dt.convert_time_zone("UTC")
        skipped = times.is_not_null() & utc.is_null()
        text = f"does not exist in {self.zone}: a clock change skips that local time"
        return (
            ReadColumn(utc, wrong if wrong.any() else None, problem),
            ReadColumn(utc, skipped if skipped.any() else None, text),
        )


def refusal(source: TableSource, batch: Batch, column: str, cells: pl.Series, read: ReadColumn) -> DataError:
    """The error for the first cell that does not fit, naming file, row and column."""
    assert read.wrong is not None
    at = int(read.wrong.arg_max() or 0)
    more = int(read.wrong.sum()) - 1
    also = f" (and {more:,} more in the same stretch)" if more else ""
    where = source.at(batch.row(at))
    text = cells[at]
    if read.problem.startswith("is empty"):
        return DataError(f"{where}: column {column!r} {read.problem}", where=where)
    hint = ""
    if batch.row(at) == 1 and source.details.get("header") == "no":
        hint = "; the first line looks like a header: leave --no-header out"
    return DataError(f"{where}: {column} {excerpt(str(text))!r} {read.problem}{also}{hint}", where=where)
