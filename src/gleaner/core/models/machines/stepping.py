"""A factorisation machine while gradient steps fit it: its tables, and the stretches that an epoch is cut into."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import Column, of_length_one
from gleaner.core.errors import ParameterError
from gleaner.core.kernels import feature_steps as kernels
from gleaner.core.models.base.blocks import BLOCKS, Task

FIRST_SQUARES = 1.0
"""What sums of squared gradients start from, so that first steps are not all of the same length."""

MOST_STRETCHES = 16
"""Of one turn. Columns move once a stretch: fewer, and they lag behind; more, and tasks have little to do in each."""

LEAST_CELLS = 500
"""Of a stretch, of all tasks together."""

LOSSES = {
    "bpr": kernels.PAIRWISE,
    "warp": kernels.RANKED,
    "logistic": kernels.SINGLE,
    "squared": kernels.SQUARED,
}


@dataclass(frozen=True, eq=False)
class SideColumns:
    """Columns of one table as features of its rows: indptr int64 (n_rows + 1,), features int32 and amounts float32.
    field: int32 (n_features,), the number of the column that each feature is of."""

    indptr: np.ndarray
    features: np.ndarray
    amounts: np.ndarray
    field: np.ndarray
    names: list[str]

    @classmethod
    def of(cls, columns: list[Column], n_rows: int, weight: float) -> SideColumns:
        """weight: the length of all columns of a row together; each column has the same share of it."""
        kept = columns if weight else []
        for each in kept:
            if each.matrix.shape[0] != n_rows:
                text = f"column {each.name!r} has {each.matrix.shape[0]:,} rows of features for {n_rows:,}"
                raise ParameterError(text)
        amount = np.float32(weight / np.sqrt(max(1, len(kept))))
        scaled = [each.matrix if each.role in ("number", "date") else of_length_one(each.matrix) for each in kept]
        whole = sparse.csr_array((n_rows, 0), dtype=np.float32)
        if scaled:
            whole = sparse.csr_array(sparse.hstack([amount * each for each in scaled], format="csr"))
            whole.sort_indices()
        field = np.repeat(np.arange(len(kept), dtype=np.int32), [each.matrix.shape[1] for each in kept])
        return cls(
            whole.indptr.astype(np.int64),
            whole.indices.astype(np.int32),
            whole.data.astype(np.float32),
            field,
            [each.name for each in kept],
        )

    @property
    def n_features(self) -> int:
        """Of all columns."""
        return len(self.field)

    def matrix(self) -> sparse.csr_array:
        """float32 (n_rows, n_features)."""
        shape = (len(self.indptr) - 1, self.n_features)
        return sparse.csr_array((self.amounts, self.features, self.indptr), shape=shape)


@dataclass(frozen=True, eq=False)
class ContextColumns:
    """Columns of the interaction: codes int32 (n_cells, n_columns), their features, -1 for none. field as above."""

    codes: np.ndarray
    field: np.ndarray
    names: list[str]

    @classmethod
    def none(cls, n_cells: int) -> ContextColumns:
        """Of a model that looks at none."""
        return cls(np.zeros((n_cells, 0), np.int32), np.zeros(0, np.int32), [])


def context_columns_of(encoder: ContextEncoder, train: InteractionMatrix) -> ContextColumns:
    """The context of the training cells, as an encoder reads it."""
    codes = encoder.codes(train.context, train.n_cells).T
    starts = np.concatenate([[0], np.cumsum(encoder.n_features)])[:-1].astype(np.int32)
    field = np.repeat(np.arange(len(encoder.names), dtype=np.int32), encoder.n_features)
    return ContextColumns(np.ascontiguousarray(codes + starts, dtype=np.int32), field, encoder.names)


@dataclass(eq=False)
class Tables:
    """Rows of features, float32 (n, width): a vector, and a weight in the last column."""

    users: np.ndarray
    items: np.ndarray
    user_columns: np.ndarray
    item_columns: np.ndarray
    context: np.ndarray


@dataclass(frozen=True, eq=False)
class StepPlan:
    """How a machine steps. second: with the products of every two features, not only of a user's with an item's.
    user_weights: whether users, their columns and the context have weights that move. trials: draws a cell. masks and
    penalties: by field, as in `fields.FieldPlan`; 0 is the users' ids, 1 the items', then each side's columns and those
    of the context."""

    loss: str
    second: bool
    user_weights: bool
    margin: float
    trials: int
    masks: np.ndarray
    penalties: np.ndarray
    base: float = 0.0


class Machine:
    """Tables, sums of squared gradients, and what tasks gather for the columns they share."""

    def __init__(
        self,
        train: InteractionMatrix,
        sides: tuple[SideColumns, SideColumns],
        context: ContextColumns,
        tables: Tables,
        plan: StepPlan,
    ) -> None:
        self.tables, self._train, self._plan, self._sides, self._context = tables, train, plan, sides, context
        width, n_items = tables.users.shape[1], len(train.items)
        self._squares = [
            np.full_like(each, FIRST_SQUARES)
            for each in (tables.users, tables.items, tables.user_columns, tables.item_columns, tables.context)
        ]
        self._shared = (tables.user_columns, tables.item_columns, tables.context)
        self._moves = [np.zeros((BLOCKS, *table.shape), np.float32) for table in self._shared]
        self._touches = [np.zeros((BLOCKS, len(table)), np.int64) for table in self._shared]
        self._item_sums = (
            np.zeros((n_items, width), np.float32),
            np.zeros(n_items, np.float32),
            np.full(n_items, -1, np.int64),
        )
        n_gathered = n_items if sides[1].n_features else 0
        self._pulls = (np.zeros((n_gathered, width), np.float32), np.zeros(n_gathered, np.int64))
        self._stretch = 0
        first = 2
        self._fields = []
        for side in (*sides, context):
            self._fields.append((side.field + np.int32(first)).astype(np.int32))
            first += len(side.names)

    @property
    def stretches(self) -> int:
        """Of one turn."""
        if not any(len(table) for table in self._shared):
            return 1
        return int(np.clip(self._train.n_cells // (BLOCKS * LEAST_CELLS), 1, MOST_STRETCHES))

    def task(self, rate: np.float32, seed: np.uint64) -> Task:
        """The steps of one epoch, for `run_epoch`."""
        tables, plan, train = self.tables, self._plan, self._train
        own = (tables.users, self._squares[0], tables.items, self._squares[1])
        sides = [(side.indptr, side.features, side.amounts) for side in self._sides]
        users = (*sides[0], tables.user_columns)
        context = (self._context.codes, tables.context)
        loss, second = LOSSES[plan.loss], np.float32(plan.second)
        penalties = plan.penalties.astype(np.float32)
        how = ((rate, penalties[0]), (rate, penalties[1]))
        single = plan.loss in ("logistic", "squared")
        cells: tuple[Any, ...] = (train.indptr, train.indices, seed)
        losses: tuple[Any, ...] = (loss, second, np.float32(plan.margin), plan.trials, len(train.items))
        if single:
            values = train.values if plan.loss == "squared" else np.zeros(0, np.float32)
            cells = (train.indptr, train.indices, values, seed)
            losses = (loss, second, np.float32(plan.user_weights), np.float32(plan.base), plan.trials)
        steps = kernels.single_epoch if single else kernels.pair_epoch

        def work(lo: int, hi: int, block_of: np.ndarray, members: np.ndarray, block: int) -> float:
            items = ((*sides[1], tables.item_columns), *self._item_sums, self._stretch)
            moves = [
                each
                for pair in zip(self._moves, self._touches, strict=True)
                for each in (pair[0][block], pair[1][block])
            ]
            return steps(
                lo, hi, cells, (block_of, members, block), own, plan.masks[:2], users, items, context, self._pulls,
                tuple(moves), losses, how,
            )  # fmt: skip

        return work

    def move_columns(self, rate: np.float32) -> None:
        """After a stretch: columns step along what tasks gathered."""
        self._stretch += 1
        penalties = self._plan.penalties.astype(np.float32)
        for place, table in enumerate(self._shared):
            if len(table):
                kernels.move_columns(
                    table, self._squares[2 + place], self._moves[place], self._touches[place], self._fields[place],
                    self._plan.masks, rate, penalties,
                )  # fmt: skip
