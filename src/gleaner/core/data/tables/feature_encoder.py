"""Item and user columns as numbers a model can take. What is learned (categories, means, word weights) is learned from
the training rows of the table only."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.tables.column_encoding import ColumnEncoding, Role
from gleaner.core.data.tables.column_encodings import ENCODINGS
from gleaner.core.errors import DataError


@dataclass(frozen=True, eq=False)
class EncodedTable:
    """Features of some rows: a sparse float32 matrix (n_rows, n_features) and the name of each feature."""

    matrix: sparse.csr_array
    names: list[str]


@dataclass(frozen=True)
class ColumnReport:
    """How one column was encoded: features it became, rows that lacked it, and how that was handled."""

    column: str
    role: Role
    features: int
    missing: int
    how: str


class FeatureEncoder:
    """Learns from a table's training rows, encodes any rows of the same columns.

    category: one-hot; missing is a category of its own; a category training lacks encodes as all zeros. Of more than
    1,000 the most frequent have a feature each, all others share 256 by a hash, those that training lacks too.
    categories (lists): multi-hot, the same. number, date (days): (x - mean) / deviation of the training rows; missing
    takes the median and sets an indicator. flag: 0 or 1 and an indicator. text: TF-IDF of words, rows of length one.
    """

    def __init__(self, roles: dict[str, Role]) -> None:
        unknown = sorted(set(roles.values()) - set(ENCODINGS))
        if unknown:
            raise DataError(
                f"a column cannot be encoded as {unknown[0]!r}; there are: {', '.join(ENCODINGS)}", where="roles"
            )
        self.roles = roles
        self.encodings: list[ColumnEncoding] = []
        self.report: list[ColumnReport] = []

    def fit(self, training: pl.DataFrame) -> FeatureEncoder:
        """Learn from training rows. Raises DataError on a column that is not there or holds nothing."""
        self.encodings, self.report = [], []
        for column, role in self.roles.items():
            if column not in training.columns:
                raise DataError(f"there is no column {column!r} to encode", where=column)
            encoding = ENCODINGS[role].learn(training[column])
            self.encodings.append(encoding)
            missing = training[column].null_count()
            self.report.append(ColumnReport(column, role, len(encoding.names), missing, encoding.how))
        return self

    def encode(self, table: pl.DataFrame) -> EncodedTable:
        """Features of any rows, in the order and with the scaling learned."""
        blocks = [each.encode(table[each.column]) for each in self.encodings]
        names = [name for each in self.encodings for name in each.names]
        whole = sparse.hstack(blocks, format="csr") if blocks else sparse.csr_array((table.height, 0))
        return EncodedTable(sparse.csr_array(whole, dtype=np.float32), names)
