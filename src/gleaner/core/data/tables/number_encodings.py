"""Numbers, dates and flags as features."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any, ClassVar, Self

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.tables.column_encoding import MISSING, ColumnEncoding, Role, number_of, text_of, truth_of
from gleaner.core.errors import DataError

EPOCH = date(1970, 1, 1)
FIRST_DAY, LAST_DAY = (date.min - EPOCH).days, (date.max - EPOCH).days


@dataclass(frozen=True)
class NumberEncoding(ColumnEncoding):
    """(x - mean) / deviation of the training rows; a missing one takes the median and sets an indicator."""

    role: ClassVar[Role] = "number"

    column: str
    mean: float
    deviation: float
    median: float
    has_missing: bool

    @classmethod
    def learn(cls, cells: pl.Series) -> Self:
        """Mean and deviation with the median for what is missing."""
        known = cls.read_numbers(cells).drop_nulls().to_numpy()
        if not len(known):
            raise DataError(f"column {cells.name!r} holds nothing in the training rows", where=cells.name)
        median = float(np.median(known))
        filled = np.concatenate([known, np.full(cells.null_count(), median)])
        return cls(cells.name, float(filled.mean()), float(filled.std()) or 1.0, median, cells.null_count() > 0)

    @staticmethod
    def read_numbers(cells: pl.Series) -> pl.Series:
        """Cells as numbers."""
        return cells.cast(pl.Float64)

    @property
    def names(self) -> list[str]:
        """The number, and the indicator where training had gaps."""
        return [self.column, f"{self.column} {MISSING}"] if self.has_missing else [self.column]

    @property
    def how(self) -> str:
        """By which mean and deviation."""
        gap = (
            f", missing cells counted as the median {self.median:g} and marked by an indicator"
            if self.has_missing
            else ""
        )
        return f"scaled: mean {self.mean:.4g}, deviation {self.deviation:.4g}{gap}"

    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """Scaled as training was."""
        numbers = (self.read_numbers(cells).fill_null(self.median).to_numpy() - self.mean) / self.deviation
        columns = [numbers, cells.is_null().to_numpy()] if self.has_missing else [numbers]
        return sparse.csr_array(np.column_stack(columns).astype(np.float32))

    @classmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """From JSON."""
        mean, deviation, median = (number_of(record[name]) for name in ("mean", "deviation", "median"))
        if deviation <= 0:
            raise ValueError("a deviation must be above 0")
        return cls(text_of(record["column"]), mean, deviation, median, truth_of(record["has_missing"]))


@dataclass(frozen=True)
class DateEncoding(NumberEncoding):
    """The same of days."""

    role: ClassVar[Role] = "date"

    @staticmethod
    def read_numbers(cells: pl.Series) -> pl.Series:
        """Days since 1970."""
        return cells.cast(pl.Date).cast(pl.Int32).cast(pl.Float64)

    @property
    def how(self) -> str:
        """By which mean and deviation, as dates and days."""
        median = self._day(self.median)
        gap = f", missing cells counted as the median {median} and marked by an indicator" if self.has_missing else ""
        return f"scaled: mean {self._day(self.mean)}, deviation {self.deviation:.4g} days{gap}"

    @classmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """From JSON."""
        encoding = super().read(record)
        if not all(FIRST_DAY <= day <= LAST_DAY for day in (encoding.mean, encoding.median)):
            raise ValueError("a mean or median day lies beyond every calendar")
        return encoding

    @staticmethod
    def _day(number: float) -> date:
        return EPOCH + timedelta(days=round(number))


@dataclass(frozen=True)
class FlagEncoding(ColumnEncoding):
    """0 or 1, and an indicator of what is missing."""

    role: ClassVar[Role] = "flag"

    column: str
    has_missing: bool

    @classmethod
    def learn(cls, cells: pl.Series) -> Self:
        """Whether there are gaps."""
        return cls(cells.name, cells.null_count() > 0)

    @property
    def names(self) -> list[str]:
        """The flag, and the indicator where training had gaps."""
        return [self.column, f"{self.column} {MISSING}"] if self.has_missing else [self.column]

    @property
    def how(self) -> str:
        """What a gap is."""
        return "0 or 1" + ("; missing is 0 and an indicator" if self.has_missing else "")

    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """A gap is 0."""
        columns = [cells.fill_null(False).cast(pl.Float32).to_numpy()]
        if self.has_missing:
            columns.append(cells.is_null().cast(pl.Float32).to_numpy())
        return sparse.csr_array(np.column_stack(columns).astype(np.float32))

    @classmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """From JSON."""
        return cls(text_of(record["column"]), truth_of(record["has_missing"]))
