"""What a factorisation machine looks at, field by field: ids, columns of both tables, columns of the interaction."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Column
from gleaner.core.errors import ParameterError, near
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


@dataclass(frozen=True)
class FieldPlan:
    """The fields of a machine that steps, by number: users' ids, items' ids, columns of the user table, of the item
    table, and of the interaction."""

    user_columns: list[str]
    item_columns: list[str]
    context_columns: list[str]

    @property
    def n_fields(self) -> int:
        """With both ids."""
        return 2 + len(self.user_columns) + len(self.item_columns) + len(self.context_columns)

    def first(self, side: str) -> int:
        """The number of the first column of a side: user, item or context."""
        before = {USER: 0, ITEM: len(self.user_columns), CONTEXT: len(self.user_columns) + len(self.item_columns)}
        return 2 + before[side]

    def numbers(self) -> dict[str, list[int]]:
        """The fields of each name: user, item, or a column, which both tables may have."""
        named: dict[str, list[int]] = {}
        for number, name in enumerate([USER, ITEM, *self.user_columns, *self.item_columns, *self.context_columns]):
            named.setdefault(name, []).append(number)
        return named

    def masks(self, rank: int) -> np.ndarray:
        """Where a field-aware machine's vectors may be other than 0: float32 (n_fields, rank * pairs of fields). Each
        pair has a stretch of its own, where both have a vector: so the products of sums over all fields are those of
        the pairs. Pairs: of user or context with item, and of user with context."""
        users = [0, *range(2, self.first(ITEM))]
        items = [1, *range(self.first(ITEM), self.first(CONTEXT))]
        context = list(range(self.first(CONTEXT), self.n_fields))
        pairs = [(a, b) for a in [*users, *context] for b in items] + [(a, c) for a in users for c in context]
        masks = np.zeros((self.n_fields, rank * len(pairs)), np.float32)
        for place, pair in enumerate(pairs):
            masks[list(pair), place * rank : (place + 1) * rank] = 1
        return masks


def require_penalties(given: object) -> None:
    """Raise ParameterError unless a parameter is a mapping of fields to numbers of at least 0, or None."""
    if given is None:
        return
    where = "field_regularisation"
    if not isinstance(given, dict):
        raise ParameterError(f"{where} must map fields to numbers, not {given!r}", where=where)
    for name, value in given.items():
        if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value < np.inf:
            raise ParameterError(f"{where}: {name!r} must be a number of at least 0, not {value!r}", where=where)


def field_penalties(fields: FieldPlan, usual: float, given: dict[str, float] | None) -> np.ndarray:
    """The penalty of every field: float64 (n_fields,). Raises ParameterError naming a field that there is not."""
    penalties = np.full(fields.n_fields, float(usual))
    numbers = fields.numbers()
    for name, value in (given or {}).items():
        if name not in numbers:
            text = f"there is no field {name!r}{near(name, numbers)}"
            raise ParameterError(text, where="field_regularisation")
        penalties[numbers[name]] = value
    return penalties


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
