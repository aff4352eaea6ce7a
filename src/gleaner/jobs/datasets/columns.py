"""Turn cells into ids, numbers and times. What does not fit is reported cell by cell; the caller refuses or drops
it."""

from __future__ import annotations

from dataclasses import dataclass, field
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import polars as pl

from gleaner.core.data.ids import MAX_ID_BYTES
from gleaner.core.data.tables.column_types import ReadColumn
from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.base import Batch, TableSource, excerpt

ISO_FORMATS = ("%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%d %H:%M:%S%.f", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M")
OFFSET_FORMATS = ("%+", "%Y-%m-%d %H:%M:%S%.f%#z")
EPOCH_UNITS = {"s": 1_000_000, "ms": 1_000}
TIME_HINT = "is not a time such as 2026-03-01T09:30:00Z or epoch seconds; a declared format can read other ways"
MILLISECONDS_FROM = 100_000_000_000
"""A whole number of at least this is read as epoch milliseconds: as seconds it would lie after the year 5000."""
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
    """Reads one time column. The way of writing is declared, or settled by the first filled cell for the whole file.

    form: a strptime format, or `s` or `ms` for epoch counts. zone: of times that name none.
    """

    file: str
    column: str
    form: str | None = None
    zone: str | None = None
    way: str = field(default="", init=False)
    example: str = field(default="", init=False)

    def __post_init__(self) -> None:
        if self.zone:
            try:
                ZoneInfo(self.zone)
            except (ZoneInfoNotFoundError, ValueError) as error:
                raise DataError(f"there is no time zone {self.zone!r}", where="zone") from error
        self.way = self.form or ""

    def parse(self, cells: pl.Series) -> ReadColumn:
        """UTC microseconds; an empty cell is missing. Wrong where it is no time of the settled way."""
        if cells.dtype.base_type() in (pl.Datetime, pl.Date):
            self.way = "typed" if getattr(cells.dtype, "time_zone", None) else "naive"
            return ReadColumn(self._zoned(cells.cast(pl.Datetime("us", getattr(cells.dtype, "time_zone", None)))))
        stripped = cells.cast(pl.String).str.strip_chars()
        filled = (stripped.str.len_bytes() > 0).fill_null(False)
        if not filled.any():
            return ReadColumn(pl.Series(cells.name, [None] * len(cells), dtype=pl.Datetime("us", "UTC")))
        cleaned = stripped.zip_with(filled, pl.Series([None] * len(cells), dtype=pl.String))
        if not self.example:
            self.example = cleaned.drop_nulls()[0]
            self.way = self.way or self._settle(self.example)
        if not self.way:
            return ReadColumn(
                pl.Series(cells.name, [None] * len(cells), dtype=pl.Datetime("us", "UTC")), filled, TIME_HINT
            )
        times = self._read(cleaned, self.way)
        wrong = filled & times.is_null()
        how = f"the declared format {self.form!r}" if self.form else f"the first time of the file, {self.example!r}"
        return ReadColumn(times, wrong if wrong.any() else None, f"is not written like {how}")

    def refusal(self, source: TableSource, batch: Batch, read: ReadColumn) -> DataError:
        """The error for the first cell that is no time."""
        return refusal(source, batch, self.column, batch.frame[self.column], read)

    @property
    def assumes_utc(self) -> bool:
        """Whether the cells name no zone and none was declared, so that UTC is assumed."""
        named = (
            self.way in ("", "typed", "epoch", *EPOCH_UNITS, *OFFSET_FORMATS) or "%z" in self.way or "%#z" in self.way
        )
        return not named and self.zone is None

    def _settle(self, text: str) -> str:
        sample = pl.Series([text])
        for way in ("epoch", *OFFSET_FORMATS, *ISO_FORMATS, "%Y-%m-%d"):
            if self._read(sample, way).null_count() == 0:
                if way == "epoch":
                    return "ms" if abs(float(text)) >= MILLISECONDS_FROM else "s"
                return way
        return ""

    def _read(self, cells: pl.Series, way: str) -> pl.Series:
        if way in ("epoch", *EPOCH_UNITS):
            numbers = cells.cast(pl.Float64, strict=False)
            stamps = (numbers * EPOCH_UNITS.get(way, 1)).round().cast(pl.Int64, strict=False)
            return stamps.cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
        has_clock = any(code in way for code in ("%H", "%I", "%T", "%R", "%c", "%s", "%+", "%p"))
        try:
            if not has_clock:
                return self._zoned(cells.str.to_date(way, strict=False).cast(pl.Datetime("us")))
            return self._zoned(cells.str.to_datetime(way, time_unit="us", strict=False))
        except (pl.exceptions.ComputeError, pl.exceptions.InvalidOperationError) as error:
            raise DataError(f"{self.form!r} is no time format", where="format") from error

    def _zoned(self, times: pl.Series) -> pl.Series:
        if getattr(times.dtype, "time_zone", None):
            return times.dt.convert_time_zone("UTC")
        local = times.dt.replace_time_zone(self.zone or "UTC", ambiguous="earliest", non_existent="null")
        return local.dt.convert_time_zone("UTC")


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
