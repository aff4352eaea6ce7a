"""What a factorisation machine looks at, field by field: ids, columns of both tables, columns of the interaction."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Column
from gleaner.core.kernels.factorisation import BLOCK

USER, ITEM, CONTEXT = "user", "item", "context"


FEW = 128
"""Features up to which a field is read in the order of the cells: what belongs to each stays in the cache."""


@dataclass(frozen=True, eq=False)
class Field:
    """One field over the training cells. side: whose it is. Of a field of few features, one a cell at most: codes int32
    (n_cells,), the feature of each cell, -1 for none, slots as in `kernels.factorisation`, and amounts float32
    (n_cells,). Of any other: bounds int64 (n_features + 1,), rows int32 and amounts: the cells that have each feature.
    alone: no cell has two of them."""

    name: str
    side: str
    n_features: int
    amounts: np.ndarray
    codes: np.ndarray | None = None
    slots: np.ndarray | None = None
    bounds: np.ndarray = field(default_factory=lambda: np.zeros(1, np.int64))
    rows: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int32))
    alone: bool = True

    def unmet(self) -> np.ndarray:
        """Features that no cell has: bool (n_features,)."""
        if self.codes is None:
            return np.diff(self.bounds) == 0
        return np.bincount(self.codes[self.codes >= 0], minlength=self.n_features) == 0


def fields_of(
    train: InteractionMatrix,
    users: list[Column],
    items: list[Column],
    context: np.ndarray,
    names: list[str],
    sizes: list[int],
) -> list[Field]:
    """Users and items by their ids, then each column. context: int32 (n_columns, n_cells), the feature of each column
    in each cell, -1 for none; sizes: how many features each has."""
    ids = [
        _by_code("user", USER, train.user_rows, len(train.users)),
        _by_code("item", ITEM, train.indices, len(train.items)),
    ]
    tables = [_by_table(column, USER, train.user_rows) for column in users]
    tables += [_by_table(column, ITEM, train.indices) for column in items]
    codes = zip(names, context, sizes, strict=True)
    return [*ids, *tables, *(_by_code(name, CONTEXT, places, size) for name, places, size in codes)]


def _by_code(name: str, side: str, codes: np.ndarray, n_features: int) -> Field:
    if n_features <= FEW:
        return _in_order(name, side, n_features, np.ones(len(codes), np.float32), codes)
    known = np.flatnonzero(codes >= 0).astype(np.int32)
    rows = known[np.argsort(codes[known], kind="stable")]
    bounds = np.concatenate([[0], np.cumsum(np.bincount(codes[known], minlength=n_features))]).astype(np.int64)
    return Field(name, side, n_features, np.ones(len(rows), np.float32), None, None, bounds, rows)


def _in_order(name: str, side: str, n_features: int, amounts: np.ndarray, codes: np.ndarray) -> Field:
    blocks = np.arange(len(codes)) // BLOCK
    order = np.argsort(blocks * (n_features + 1) + np.where(codes < 0, n_features, codes), kind="stable")
    slots = np.empty(len(codes), np.int32)
    slots[order] = np.arange(len(codes)) - blocks * BLOCK
    return Field(name, side, n_features, amounts, codes.astype(np.int32), slots)


def _by_table(column: Column, side: str, rows: np.ndarray) -> Field:
    name, table = f"{side}: {column.name}", sparse.csr_array(column.matrix)
    lengths = np.diff(table.indptr)
    if table.shape[1] <= FEW and (lengths <= 1).all():
        codes, amounts = np.full(len(lengths), -1, np.int32), np.zeros(len(lengths), np.float32)
        codes[lengths > 0], amounts[lengths > 0] = table.indices, table.data
        return _in_order(name, side, table.shape[1], amounts[rows], codes[rows])
    turned = sparse.csr_array(table[rows]).tocsc()
    turned.sort_indices()
    return Field(
        name,
        side,
        table.shape[1],
        turned.data.astype(np.float32),
        None,
        None,
        turned.indptr.astype(np.int64),
        turned.indices.astype(np.int32),
        bool((lengths <= 1).all()),
    )
