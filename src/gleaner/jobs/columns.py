"""Turn text cells into ids, numbers and times, naming the row that does not fit."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from gleaner.core.errors import DataError

ISO_FORMATS = ("%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%d %H:%M:%S%.f", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M")
EPOCH_UNITS = {"s": 1_000_000, "ms": 1_000}
TIME_HINT = "is not a time such as 2026-03-01T09:30:00Z or epoch seconds"
MILLISECONDS_FROM = 100_000_000_000
"""A whole number of at least this is read as epoch milliseconds: as seconds it would lie after the year 5000."""


def require_ids(cells: pl.Series, file: str, column: str, first_row: int) -> pl.Series:
    """Ids as they are, to the letter. Raises DataError on an empty one."""
    empty = cells.str.len_bytes() == 0
    if empty.any():
        row = first_row + int(empty.arg_max() or 0)
        raise DataError(
            f"{file} row {row}: column {column!r} is empty, and every row needs an id there",
            where=f"{file} row {row}",
        )
    return cells


def parse_numbers(cells: pl.Series, file: str, column: str, first_row: int) -> pl.Series:
    """float64; an empty cell is missing, never zero. Raises DataError on text that is no finite number."""
    numbers = cells.str.strip_chars().cast(pl.Float64, strict=False)
    filled = cells.str.strip_chars().str.len_bytes() > 0
    wrong = filled & ~numbers.is_finite().fill_null(False)
    if wrong.any():
        _refuse(cells, wrong, file, column, first_row, "is not a number")
    return numbers.zip_with(filled, pl.Series([None] * len(cells), dtype=pl.Float64))


@dataclass
class TimeReader:
    """Reads one time column. The way of writing is settled by the first filled cell and holds for the whole file."""

    file: str
    column: str
    way: str = field(default="", init=False)
    example: str = field(default="", init=False)

    def parse(self, cells: pl.Series, first_row: int) -> pl.Series:
        """UTC microseconds; an empty cell is missing. Raises DataError on text that is no time."""
        stripped = cells.str.strip_chars()
        filled = stripped.str.len_bytes() > 0
        if not filled.any():
            return pl.Series(cells.name, [None] * len(cells), dtype=pl.Datetime("us", "UTC"))
        cleaned = stripped.zip_with(filled, pl.Series([None] * len(cells), dtype=pl.String))
        if not self.way:
            self.example = cleaned.drop_nulls()[0]
            self.way = self._settle(self.example)
        if not self.way:
            _refuse(cells, filled, self.file, self.column, first_row, TIME_HINT)
        times = self._read(cleaned, self.way)
        wrong = filled & times.is_null()
        if wrong.any():
            hint = f"is not written like the first time of the file, {self.example!r}"
            _refuse(cells, wrong, self.file, self.column, first_row, hint)
        return times

    @property
    def assumes_utc(self) -> bool:
        """Whether the cells name no zone, so that UTC is assumed."""
        return self.way in (*ISO_FORMATS, "%Y-%m-%d")

    def _settle(self, text: str) -> str:
        sample = pl.Series([text])
        ways = ("epoch", "%+", *ISO_FORMATS, "%Y-%m-%d")
        for way in ways:
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
        if way == "%Y-%m-%d":
            return cells.str.to_date(way, strict=False).cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
        read = cells.str.to_datetime(way, time_unit="us", strict=False)
        return read.dt.convert_time_zone("UTC") if way == "%+" else read.dt.replace_time_zone("UTC")


def _refuse(cells: pl.Series, wrong: pl.Series, file: str, column: str, first_row: int, problem: str) -> None:
    at = int(wrong.arg_max() or 0)
    more = int(wrong.sum()) - 1
    also = f" (and {more} more in the same stretch)" if more else ""
    row = first_row + at
    raise DataError(f"{file} row {row}: {column} {cells[at]!r} {problem}{also}", where=f"{file} row {row}")
