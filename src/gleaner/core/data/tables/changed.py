"""Set cells of item and user tables after the table was made.

A cell arrives as a JSON value. `as_cell` converts it to what its column stores, or says why it cannot. Values are
checked before they are kept; `with_cells` checks again, because a later version may give the column another type.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from datetime import UTC, date, datetime
from typing import Any, NamedTuple

import polars as pl
from polars.exceptions import PolarsError

MAX_CELL_BYTES = 8_192
"""Longest text, or texts of one list together, in bytes of UTF-8."""

EXACT_FLOAT = 2**53
"""Above this a JSON number with a fraction sign no longer says which whole number it means."""


class SkippedCell(NamedTuple):
    """A cell that was not set, and why."""

    row_id: str
    name: str
    reason: str

    def __str__(self) -> str:
        return f"{self.name!r} of {self.row_id!r}: {self.reason}"


def as_cell(value: Any, dtype: pl.DataType) -> Any:
    """Return a JSON value as the Python value that a column of this type stores. Raise ValueError saying what is wrong.

    A whole number may be written with a fraction of zero, such as 5.0.
    """
    if value is None:
        return None
    try:
        cell = _converted(value, dtype)
        stored = pl.Series([cell], dtype=dtype, strict=True)[0]
    except (PolarsError, TypeError, OverflowError):
        raise ValueError(f"{_excerpt(value)} does not fit a column of {_type_name(dtype)}") from None
    if isinstance(stored, float) and not math.isfinite(stored):
        raise ValueError(f"{_excerpt(value)} is too large for a column of {_type_name(dtype)}")
    return cell


def as_json(cell: Any) -> Any:
    """Return a cell made by `as_cell` as a JSON value from which it can be made again."""
    return cell.isoformat() if isinstance(cell, date) else cell


def with_cells(
    frame: pl.DataFrame, row_of: Mapping[str, int], cells: Iterable[tuple[str, str, Any]]
) -> tuple[pl.DataFrame, list[SkippedCell]]:
    """Return the table with cells set, and the cells that do not fit their column and were skipped.

    The last value of a cell holds. Rows and columns that the table lacks are ignored. Without any other cell the table
    is the same object.

    row_of: row index of each id.
    cells: (id, column, JSON value).
    """
    skipped: list[SkippedCell] = []
    new_values: dict[str, dict[int, Any]] = {}
    for row_id, name, value in cells:
        row = row_of.get(row_id)
        if row is None or name not in frame.columns or name == "id":
            continue
        try:
            new_values.setdefault(name, {})[row] = as_cell(value, frame.schema[name])
        except ValueError as error:
            skipped.append(SkippedCell(row_id, name, str(error)))
    changed = [_with_values(frame[name], by_row) for name, by_row in new_values.items() if by_row]
    return (frame.with_columns(changed) if changed else frame), skipped


def _converted(value: Any, dtype: pl.DataType) -> Any:
    if dtype.is_integer():
        return _whole_number(value)
    if dtype.is_float():
        if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
            raise ValueError(f"{_excerpt(value)} is not a number")
        return float(value)
    if dtype == pl.Boolean:
        if not isinstance(value, bool):
            raise ValueError(f"{_excerpt(value)} is not a flag, true or false")
        return value
    if dtype == pl.Date:
        return _moment(value, date, "date such as 2026-03-01")
    if isinstance(dtype, pl.Datetime):
        moment = _moment(value, datetime, "time such as 2026-03-01T09:30:00Z")
        moment = moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)
        return moment if dtype.time_zone else moment.replace(tzinfo=None)
    if dtype == pl.List(pl.String):
        return _texts(value)
    if isinstance(dtype, pl.String | pl.Categorical | pl.Enum):
        return _text(value)
    raise ValueError(f"a column of {_type_name(dtype)} cannot be changed cell by cell")


def _whole_number(value: Any) -> int:
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    if isinstance(value, int) and is_number:
        return value
    if not is_number or not math.isfinite(value) or not value.is_integer() or abs(value) > EXACT_FLOAT:
        raise ValueError(f"{_excerpt(value)} is not a whole number")
    return int(value)


def _moment(value: Any, kind: type[date], description: str) -> Any:
    try:
        if not isinstance(value, str):
            raise ValueError
        return kind.fromisoformat(value)
    except ValueError:
        raise ValueError(f"{_excerpt(value)} is not a {description}") from None


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise ValueError(f"{_excerpt(value)} is not a text")
    _require_storable([value])
    return value


def _texts(value: Any) -> list[str]:
    if not isinstance(value, list) or not all(isinstance(entry, str) for entry in value):
        raise ValueError(f"{_excerpt(value)} is not a list of texts")
    _require_storable(value)
    return value


def _require_storable(texts: list[str]) -> None:
    n_bytes = len(texts)
    for text in texts:
        if "\0" in text:
            raise ValueError(f"{_excerpt(text)} contains the character NUL")
        try:
            n_bytes += len(text.encode())
        except UnicodeEncodeError:
            raise ValueError(f"{_excerpt(text)} contains half of a surrogate pair") from None
    if n_bytes > MAX_CELL_BYTES:
        raise ValueError(f"it has {n_bytes:,} bytes, and a cell has at most {MAX_CELL_BYTES:,}")


def _type_name(dtype: pl.DataType) -> str:
    return "whole numbers" if dtype.is_integer() else str(dtype)


def _excerpt(value: Any) -> str:
    text = ascii(value)
    return text if len(text) <= 80 else f"{text[:77]}..."


def _with_values(column: pl.Series, by_row: dict[int, Any]) -> pl.Series:
    """Return a column with the values of some rows replaced."""
    new = pl.DataFrame(
        {
            "row": pl.Series(list(by_row), dtype=pl.UInt32),
            "new": pl.Series(list(by_row.values()), dtype=column.dtype),
            "is_set": True,
        }
    )
    rows = pl.DataFrame({"row": pl.Series(range(len(column)), dtype=pl.UInt32), "old": column})
    both = rows.join(new, on="row", how="left", maintain_order="left")
    chosen = pl.when(pl.col("is_set").fill_null(False)).then("new").otherwise("old").alias(column.name)
    return both.select(chosen).to_series()
