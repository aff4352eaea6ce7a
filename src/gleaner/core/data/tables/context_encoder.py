"""Columns of the interaction, such as the device it came from, as features of a model: learned from training cells
only, kept with the model, and the same in training and in serving."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass
from functools import cached_property
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.data.tables.hashing import BUCKETS, buckets_of
from gleaner.core.errors import DataError, ParameterError, near

MOST_VALUES = 1000
"""Values of one column that have a feature of their own; where there are more, all others share some by a hash."""

MOST_NUMBERS = 40
"""Different numbers up to which each is a value of its own; more are cut into parts of about equal size."""

PARTS = 16
TIME_PARTS = ("time.hour", "time.weekday", "time.month")
"""What of the moment of an interaction, in UTC, is beside it without having been kept with it."""

FEW = 64
"""So many cells are quicker looked up one by one: joining a whole column costs as much as some hundred look-ups."""

MISSING, OTHER = 0, 1
"""Places of every column's features that are always there: for a cell that is empty, and for a value that training had
too seldom, or never."""


@dataclass(frozen=True)
class ContextColumn:
    """One column. values: texts with a feature of their own, in its order. edges: where parts of a number begin; None
    where numbers are values of their own, or the column holds no numbers. hashed: all other values share some features
    by a hash."""

    name: str
    is_number: bool
    values: tuple[str, ...]
    edges: tuple[float, ...] | None = None
    hashed: bool = False

    @property
    def n_features(self) -> int:
        """How many features it becomes."""
        own = len(self.values) if self.edges is None else len(self.edges) + 1
        return 2 + own + (BUCKETS if self.hashed else 0)

    def codes(self, cells: pl.Series) -> np.ndarray:
        """The place of each cell's feature among the column's: int32."""
        if self.edges is not None:
            numbers = cells.cast(pl.Float64, strict=False)
            parts = np.searchsorted(np.array(self.edges), numbers.fill_null(0.0).to_numpy(), side="right")
            return np.where(numbers.is_null().to_numpy(), MISSING, parts + 2).astype(np.int32)
        texts = _texts(cells, self.is_number)
        if len(texts) <= FEW:
            codes = np.array([self._places.get(text, OTHER) for text in texts.to_list()], np.int32)
        else:
            known = texts.replace_strict(self._places, default=OTHER, return_dtype=pl.Int32)
            codes = known.to_numpy().astype(np.int32)
        if self.hashed:
            others = codes == OTHER
            codes[others] = 2 + len(self.values) + buckets_of(texts.filter(pl.Series(others)))
        return codes

    @cached_property
    def _places(self) -> dict[str | None, int]:
        """The place of each value's feature, and that of no value."""
        return {None: MISSING} | {value: place + 2 for place, value in enumerate(self.values)}

    def read(self, value: Any) -> float | str | None:
        """A value of a request as a cell. Raises DataError where it does not fit."""
        if value is None:
            return None
        if not self.is_number:
            return value if isinstance(value, str) else json.dumps(value)
        try:
            number = float("nan") if isinstance(value, bool) else float(value)
        except (TypeError, ValueError):
            number = float("nan")
        if not np.isfinite(number):
            raise DataError(f"context {self.name!r} must be a number, not {value!r}", where=f"context.{self.name}")
        return number

    def feature_names(self) -> list[str]:
        """What each feature stands for."""
        if self.edges is None:
            hashed = [f"(hashed {bucket})" for bucket in range(BUCKETS if self.hashed else 0)]
            return ["(missing)", "(other)", *self.values, *hashed]
        ends = [f"below {self.edges[0]:g}", *(f"from {edge:g}" for edge in self.edges)] if self.edges else ["any"]
        return ["(missing)", "(other)", *ends]


@dataclass(frozen=True)
class ContextEncoder:
    """Columns of the interaction that a model looks at."""

    columns: tuple[ContextColumn, ...] = ()

    @classmethod
    def fit(cls, frame: pl.DataFrame, names: Iterable[str]) -> ContextEncoder:
        """Learn from the context of training cells. Raises ParameterError naming a column that is not there."""
        columns = []
        for name in names:
            if name not in frame.columns:
                text = f"there is no column {name!r} of the interaction{near(name, frame.columns)}"
                raise ParameterError(text, where="context_columns")
            columns.append(_learned(name, frame[name]))
        return cls(tuple(columns))

    @property
    def names(self) -> list[str]:
        """The columns."""
        return [column.name for column in self.columns]

    @property
    def n_features(self) -> list[int]:
        """Features of each column."""
        return [column.n_features for column in self.columns]

    def codes(self, frame: pl.DataFrame | None, n: int) -> np.ndarray:
        """The feature of each column in each of n rows: int32 (n_columns, n). Columns that the frame lacks are
        missing in every row."""
        out = np.full((len(self.columns), n), MISSING, np.int32)
        for place, column in enumerate(self.columns):
            if frame is not None and column.name in frame.columns:
                out[place] = column.codes(frame[column.name])
        return out

    def frame_of(self, given: Sequence[Mapping[str, Any]]) -> pl.DataFrame:
        """A row from each of what requests say; what one leaves out is missing, and what is no column is passed over.
        Raises DataError naming a value that does not fit its column."""
        cells = {column.name: [column.read(each.get(column.name)) for each in given] for column in self.columns}
        kinds = {column.name: pl.Float64 if column.is_number else pl.String for column in self.columns}
        return pl.DataFrame(cells, schema=kinds)

    def to_json(self) -> bytes:
        """For a model's state."""
        return json.dumps([asdict(column) for column in self.columns]).encode()

    @classmethod
    def from_json(cls, letters: bytes, where: str = "encoder") -> ContextEncoder:
        """Written by `to_json`. Raises DataError where it is not, naming what it was read from."""
        try:
            return cls(tuple(_read(entry) for entry in json.loads(letters)))
        except (ValueError, TypeError, KeyError) as error:
            raise DataError(f"the encoder of the context does not fit: {error}", where=where) from None


def _read(entry: dict[str, Any]) -> ContextColumn:
    values, edges = entry["values"], entry["edges"]
    if not isinstance(entry["name"], str) or not all(isinstance(value, str) for value in values):
        raise ValueError("names and values must be texts")
    numbers = None if edges is None else tuple(float(edge) for edge in edges)
    if numbers is not None and not (np.isfinite(numbers).all() and (np.diff(numbers) > 0).all()):
        raise ValueError("edges must be finite and rise")
    return ContextColumn(entry["name"], bool(entry["is_number"]), tuple(values), numbers, bool(entry.get("hashed")))


def _learned(name: str, cells: pl.Series) -> ContextColumn:
    is_number = cells.dtype.is_numeric()
    if is_number and cells.n_unique() > MOST_NUMBERS:
        known = cells.drop_nulls().cast(pl.Float64).to_numpy()
        edges = np.unique(np.quantile(known, np.arange(1, PARTS) / PARTS))
        return ContextColumn(name, True, (), tuple(edges.tolist()))
    texts = _texts(cells, is_number).drop_nulls()
    counts = texts.value_counts(name="n").sort("n", texts.name, descending=[True, False])
    values = tuple(counts[texts.name].head(MOST_VALUES).to_list())
    return ContextColumn(name, is_number, values, hashed=counts.height > MOST_VALUES)


def _texts(cells: pl.Series, is_number: bool) -> pl.Series:
    """Cells as texts, a number always written the same way."""
    if is_number:
        cells = cells.cast(pl.Float64, strict=False)
    if cells.dtype == pl.Boolean:
        return cells.cast(pl.String)
    return cells.cast(pl.String, strict=False)
