"""Sums of rows of a table, some for each of many: what a history is to a network, or the features of a column."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.protocol import Arrays

LAZY_ROWS = 20_000
"""Rows of a table from which on its gradient holds those of a batch only, and steps move no others. Smaller ones are
moved whole, which takes less time than to sort the rows of a batch."""


def rows_in(torch: Any, table: Any, rows: np.ndarray) -> Any:
    """Rows of a torch table: (n, width)."""
    numbers = torch.from_numpy(rows.astype(np.int64))
    return torch.nn.functional.embedding(numbers, table, sparse=len(table) > LAZY_ROWS)


@dataclass(frozen=True, eq=False)
class Bags:
    """Rows of a table that belong together, with amounts, in CSR form: indptr int64 (n + 1,), rows int32, amounts
    float32."""

    indptr: np.ndarray
    rows: np.ndarray
    amounts: np.ndarray

    def some(self, bags: np.ndarray) -> Bags:
        """Only these, in this order."""
        lengths = np.diff(self.indptr)[bags]
        bounds = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        # the places of all, one after the other: starts repeated, plus a count within each
        places = np.repeat(self.indptr[bags] - bounds[:-1], lengths) + np.arange(bounds[-1])
        return Bags(bounds, self.rows[places], self.amounts[places])

    def sums_in(self, torch: Any, table: Any) -> Any:
        """Sums of the rows of a torch table: (n, width)."""
        if len(table) <= LAZY_ROWS:
            return _product(torch).apply(table, self.matrix(len(table)))
        return torch.nn.functional.embedding_bag(
            torch.from_numpy(self.rows),
            table,
            torch.from_numpy(self.indptr.astype(self.rows.dtype)),
            mode="sum",
            sparse=True,
            per_sample_weights=torch.from_numpy(self.amounts),
            include_last_offset=True,
        )

    def matrix(self, n_rows: int) -> sparse.csr_array:
        """The amounts: float32 (n, n_rows)."""
        shape = (len(self.indptr) - 1, n_rows)
        return sparse.csr_array((self.amounts, self.rows, self.indptr), shape=shape)

    def sums(self, table: np.ndarray) -> np.ndarray:
        """The same of an array: float32 (n, width)."""
        if len(self.indptr) == 2:
            # of one alone no matrix need be made
            return np.asarray(self.amounts @ table[self.rows], np.float32)[None]
        return np.asarray(self.matrix(len(table)) @ table, np.float32)


def added_up(rows: np.ndarray, values: np.ndarray, n: int) -> np.ndarray:
    """Values put onto rows of a table of zeros, one row as often as it comes: float32 (n, width)."""
    bounds, ones = np.arange(len(rows) + 1), np.ones(len(rows), np.float32)
    return np.asarray(sparse.csr_array((ones, rows, bounds), shape=(len(rows), n)).T @ values, np.float32)


@cache
def _product(torch: Any) -> Any:
    """A sparse matrix times a torch table, whose gradient is the turned matrix times that of the product."""

    class Product(torch.autograd.Function):
        @staticmethod
        def forward(context: Any, table: Any, matrix: sparse.csr_array) -> Any:
            context.matrix = matrix
            return torch.from_numpy(matrix @ table.detach().numpy())

        @staticmethod
        def backward(context: Any, gradient: Any) -> Any:
            return torch.from_numpy(context.matrix.T @ gradient.contiguous().numpy()), None

    return Product


def forget_untouched(train: InteractionMatrix, tables: Arrays) -> None:
    """A user or item without a cell keeps no random start in the tables of ids: it is what its columns say."""
    nobody, nothing = np.diff(train.indptr) == 0, train.item_counts == 0
    for name, untouched in (("user_ids", nobody), ("item_ids", nothing), ("histories", nothing)):
        if name in tables:
            tables[name][untouched] = 0


def spread_evenly(bounds: np.ndarray) -> np.ndarray:
    """1 / sqrt(n) for each entry of bags of n: so sums over many do not drown those over few. float32."""
    lengths = np.diff(bounds)
    return np.repeat((1 / np.sqrt(np.maximum(lengths, 1))).astype(np.float32), lengths)
