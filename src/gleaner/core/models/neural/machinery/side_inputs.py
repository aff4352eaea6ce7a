"""What a network is told of users or items beside their ids: the columns of their table, each as one vector."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.tables.column_encoding import ColumnEncoding
from gleaner.core.data.tables.row_features import (
    Column,
    encoded_again,
    encodings_from_json,
    encodings_to_json,
    of_length_one,
)
from gleaner.core.errors import DataError, InputError
from gleaner.core.models.base.capabilities import SideName
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.bags import Bags

FARTHEST = 5.0
"""Deviations from the mean beyond which a number says no more."""


@dataclass(frozen=True, eq=False)
class SideInputs:
    """Columns of one table, of so many rows. bags: the features of each row in each column, those of a row one after
    the other."""

    encodings: list[ColumnEncoding]
    bags: Bags
    n_features: int
    n_rows: int

    @classmethod
    def of(cls, columns: list[Column], n_rows: int) -> SideInputs:
        """Numbers as training scaled them, within bounds; every other column of length one. Raises InputError where a
        column has another number of rows."""
        rows, features, amounts, start = [], [], [], 0
        for place, column in enumerate(columns):
            if column.matrix.shape[0] != n_rows:
                text = f"column {column.name!r} has {column.matrix.shape[0]:,} rows of features for {n_rows:,}"
                raise InputError(text, where=column.name)
            is_number = column.role in ("number", "date")
            cells = sparse.coo_array(column.matrix if is_number else of_length_one(column.matrix))
            rows.append(cells.row.astype(np.int64) * len(columns) + place)
            features.append(cells.col.astype(np.int64) + start)
            amounts.append(np.clip(cells.data, -FARTHEST, FARTHEST).astype(np.float32))
            start += column.matrix.shape[1]
        n_bags = n_rows * len(columns)
        at = np.concatenate(rows) if rows else np.empty(0, np.int64)
        order = np.argsort(at, kind="stable")
        indptr = np.concatenate([[0], np.cumsum(np.bincount(at, minlength=n_bags))]).astype(np.int64)
        named = np.concatenate(features)[order].astype(np.int32) if rows else np.empty(0, np.int32)
        heavy = np.concatenate(amounts)[order] if rows else np.empty(0, np.float32)
        return cls([column.encoding for column in columns], Bags(indptr, named, heavy), start, n_rows)

    @property
    def names(self) -> list[str]:
        """The columns."""
        return [each.column for each in self.encodings]

    def some(self, rows: np.ndarray) -> Bags:
        """The bags of these rows, one after the other."""
        n = len(self.encodings)
        return self.bags.some((rows.astype(np.int64)[:, None] * n + np.arange(n)).ravel())

    def vectors_in(self, torch: Any, table: Any, rows: np.ndarray) -> Any:
        """The vector of each column in each row: torch (n, n_columns, width)."""
        return self.some(rows).sums_in(torch, table).reshape(len(rows), len(self.encodings), -1)

    def vectors(self, table: np.ndarray) -> np.ndarray:
        """The same of an array and of all rows: float32 (n_rows, n_columns, width)."""
        return self.bags.sums(table).reshape(self.n_rows, len(self.encodings), table.shape[1])


def inputs_again(encodings: list[ColumnEncoding], rows: pl.DataFrame) -> SideInputs:
    """Other rows of the same table, as training read them."""
    return SideInputs.of(encoded_again(encodings, rows), rows.height)


def encodings_state(sides: dict[SideName, list[ColumnEncoding]]) -> Arrays:
    """How cells become features, for a model's state."""
    return {"encodings": np.frombuffer(encodings_to_json(sides), np.uint8)}


ENCODINGS_LAYOUT: Layout = {"encodings": ArraySpec("uint8", ("letters",))}


def read_encodings(arrays: Arrays, family: str) -> dict[SideName, list[ColumnEncoding]]:
    """Written by `encodings_state`. Raises DataError where tables of vectors do not fit them."""
    sides = encodings_from_json(arrays["encodings"].tobytes())
    found: dict[SideName, list[ColumnEncoding]] = {"users": sides.get("users", []), "items": sides.get("items", [])}
    for side, some in found.items():
        name, n_features = f"{side[:-1]}_columns", sum(len(each.names) for each in some)
        if len(arrays[name]) != n_features:
            text = f"{family}: array {name!r} is of {len(arrays[name])} features, and the columns have {n_features}"
            raise DataError(text, where=name)
    return found
