"""What every encoding of a column is, and how the records they are kept as are read."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import asdict
from typing import Any, ClassVar, Literal, Self

import numpy as np
import polars as pl
from scipy import sparse

Role = Literal["category", "categories", "number", "flag", "date", "text"]
MISSING = "(missing)"


class ColumnEncoding(ABC):
    """What was learned of one column."""

    role: ClassVar[Role]
    column: str

    @classmethod
    @abstractmethod
    def learn(cls, cells: pl.Series) -> Self:
        """Learn from the cells of training rows, which carry the column's name. Raises DataError where they do not fit
        the role."""

    @property
    @abstractmethod
    def names(self) -> list[str]:
        """The name of each feature."""

    @property
    @abstractmethod
    def how(self) -> str:
        """How cells are encoded, in words."""

    @abstractmethod
    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """Features of any cells: float32 (n, n_features)."""

    def record(self) -> dict[str, Any]:
        """As JSON."""
        return {"role": self.role} | asdict(self)  # type: ignore[call-overload]

    @classmethod
    @abstractmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """Written by `record`. Raises ValueError, TypeError or KeyError where it is not."""


def text_of(given: object) -> str:
    """A text of a record, as is."""
    if not isinstance(given, str):
        raise TypeError("a name must be a text")
    return given


def texts_of(given: object) -> tuple[str, ...]:
    """Different texts of a record."""
    if not isinstance(given, list) or not all(isinstance(each, str) for each in given):
        raise TypeError("values must be texts")
    if len(set(given)) < len(given):
        raise ValueError("a value stands there twice")
    return tuple(given)


def truth_of(given: object) -> bool:
    """True or false of a record."""
    if not isinstance(given, bool):
        raise TypeError("a mark must be true or false")
    return given


def number_of(given: object) -> float:
    """A finite number of a record."""
    if isinstance(given, bool) or not isinstance(given, int | float) or not np.isfinite(given):
        raise TypeError("a number must be finite")
    return float(given)


def count_of(given: object) -> int:
    """A whole number of a record, not below 0."""
    if isinstance(given, bool) or not isinstance(given, int) or given < 0:
        raise TypeError("a count must be a whole number of at least 0")
    return given
