"""Factorisation machine for lists: ids, columns of both tables and of the interaction, and every two of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import Features, require_columns
from gleaner.core.errors import DataError, ParameterError
from gleaner.core.models.base.capabilities import SideName
from gleaner.core.models.base.context import ContextFactors
from gleaner.core.models.base.factor_model import PAIRS_AT_ONCE
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned, no_array
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.machines.fields import FieldPlan, field_penalties, require_penalties
from gleaner.core.models.machines.stepped_factors import SteppedFactors
from gleaner.core.models.machines.stepping import Machine, SideColumns, StepPlan, Tables, context_columns_of


@dataclass(repr=False)
class FmRanking(SteppedFactors, ContextFactors):
    """score = sum_f w_f x_f + sum over pairs f < g of (v_f . v_g) x_f x_g, x the features of a user, an item, their
    columns, and the context of the interaction (Rendle 2010). field_aware: a feature has a vector of its own for every
    field that it meets, over pairs of fields that a list depends on: those of user or context with those of the item,
    and of the user with the context (Juan, Zhuang, Chin, Lin 2016).

    Fitted by `loss`: bpr, warp or logistic as those families, items being drawn in the context of the cell, with
    Adagrad's step sizes. Sums over the features of an item are its factor, so lists are those of a factor model.
    """

    family: ClassVar[str] = "fm_ranking"
    summary: ClassVar[str] = "lists from ids, columns and context, and every two of them together"
    source: ClassVar[str] = "Rendle 2010, 2012; Juan, Zhuang, Chin, Lin 2016; Duchi, Hazan, Singer 2011"
    unfit: ClassVar[str] = "when its ablation says that columns and context add nothing: plain factors are faster"
    effort: ClassVar[str] = "per iteration about 8 rank cells draws; field-aware, times the pairs of fields"

    context_columns: list[str] | None = parameter(
        None,
        "columns of the interaction to look at, or time.hour, time.weekday, time.month; none given: all kept with it",
    )
    field_aware: bool = parameter(False, "a vector of each feature for every field that it meets, of length `rank`")
    field_regularisation: dict[str, float] | None = parameter(
        None, "lambda of single fields, where it is not `regularisation`: user, item, or a column by its name"
    )
    encoder_: ContextEncoder = learned(ContextEncoder)
    users_: np.ndarray = learned(no_array)
    items_: np.ndarray = learned(no_array)
    context_: np.ndarray = learned(no_array)

    def __post_init__(self) -> None:
        super().__post_init__()
        require_columns("context_columns", self.context_columns)
        require_penalties(self.field_regularisation)
        if not isinstance(self.field_aware, bool):
            raise ParameterError(f"field_aware must be true or false, not {self.field_aware!r}", where="field_aware")

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of both tables, and of the interaction."""
        return {**super().columns(features), "context_columns": self.context_of(features.context, self.context_columns)}

    @property
    def encoder(self) -> ContextEncoder:
        """How the columns of the interaction that were looked at are read."""
        return self.encoder_

    def machine(self, train: InteractionMatrix, sides: tuple[SideColumns, SideColumns]) -> Machine:
        """With the products of every two features, and weights of all."""
        frame = pl.DataFrame() if train.context is None else train.context
        self.encoder_ = ContextEncoder.fit(frame, self.context_of(frame.columns, self.context_columns))
        context = context_columns_of(self.encoder_, train)
        fields = FieldPlan(sides[0].names, sides[1].names, context.names)
        masks = fields.masks(self.rank) if self.field_aware else np.ones((fields.n_fields, self.rank), np.float32)
        plan = StepPlan(
            self.loss,
            second=True,
            user_weights=True,
            margin=self.margin,
            trials=self.draws,
            masks=masks,
            penalties=field_penalties(fields, self.regularisation, self.field_regularisation),
            base=float(train.values.mean(dtype=np.float64)) if self.loss == "squared" else 0.0,
        )
        n_rows = (*train.shape, sides[0].n_features, sides[1].n_features, len(context.field))
        of_fields = (0, 1, *(fields.first(side) for side in ("user", "item", "context")))
        fields_of_rows = [
            np.zeros(n_rows[0], np.int32),
            np.ones(n_rows[1], np.int32),
            sides[0].field + of_fields[2],
            sides[1].field + of_fields[3],
            context.field + of_fields[4],
        ]
        random = np.random.Generator(np.random.PCG64(self.seed))
        tables = Tables(*(self._start(random, masks[rows]) for rows in fields_of_rows))
        return Machine(train, sides, context, tables, plan)

    def _start(self, random: np.random.Generator, masks: np.ndarray) -> np.ndarray:
        """Normal vectors where they may be other than 0, with a weight of 0."""
        spread = np.float32(self.init_scale / np.sqrt(self.rank))
        vectors = random.standard_normal(masks.shape, dtype=np.float32) * spread * masks
        return np.column_stack([vectors, np.zeros(len(vectors), np.float32)])

    def update_factors(self) -> None:
        """Sums of the vectors as they stand, with the products of those of one row in its weight."""
        users, items = self._sides
        tables = self._machine.tables
        self.users_ = _collapsed(tables.users, users, tables.user_columns)
        self.items_ = _collapsed(tables.items, items, tables.item_columns)
        self.context_ = tables.context.copy()
        self.keep_columns()
        self._join()

    def factors_of_rows(self, side: SideName, rows: pl.DataFrame) -> np.ndarray:
        """Sums of the vectors of their features, of the context nothing known."""
        sums = self.sums_of_rows(side, rows)
        return self._user_form(sums) if side == "users" else sums

    def sums_of_rows(self, side: SideName, rows: pl.DataFrame) -> np.ndarray:
        """What the columns of some rows come to, with the products of these in the weight: float32 (n, width)."""
        table = self.user_columns_ if side == "users" else self.item_columns_
        own = np.zeros((rows.height, self.items_.shape[1]), np.float32)
        return _collapsed(own, self.side_of(side, rows), table)

    def add_rows(self, side: SideName, rows: pl.DataFrame) -> None:
        """Put the sums of rows behind those there are."""
        sums = self.sums_of_rows(side, rows)
        if side == "users":
            self.users_ = np.concatenate([self.users_, sums])
        else:
            self.items_ = np.concatenate([self.items_, sums])
        self._join()

    def warn_of_dead(self, watch: Watch) -> None:
        """Of a field-aware machine an item lacks the vectors that are for users and context by design."""
        if not self.field_aware:
            super().warn_of_dead(watch)

    def _join(self) -> None:
        """Factors, of the context nothing known."""
        self.user_factors_ = self._user_form(self.users_)
        self.item_factors_ = self.items_

    def _user_form(self, sums: np.ndarray) -> np.ndarray:
        """Vectors of users as their products with items need them: those of a context of which nothing is known go with
        them."""
        nothing = self.context_rows(None, 1)
        return np.column_stack([sums[:, :-1] + nothing[:, :-1], np.ones(len(sums), np.float32)])

    def context_rows(self, context: pl.DataFrame | None, n: int) -> np.ndarray:
        """What n rows of the context come to: float32 (n, width), the products of their columns in the weight."""
        codes = self.encoder_.codes(context, n).T
        starts = np.concatenate([[0], np.cumsum(self.encoder_.n_features)])[:-1].astype(np.int64)
        width = self.items_.shape[1]
        sums, squares = np.zeros((n, width), np.float32), np.zeros((n, width - 1), np.float32)
        for place, start in enumerate(starts):
            rows = self.context_[start + codes[:, place]]
            sums += rows
            squares += rows[:, :-1] ** 2
        return _with_products(sums, squares)

    def in_context(self, users: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """User factors, float32 (n, width), each in their row of the context."""
        step = self.context_rows(context, len(users)) - self.context_rows(None, 1)
        step[:, -1] = 0
        return users + step

    def log_odds(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
        """The whole sum, with what users and context add whatever the item."""
        totals = np.empty(len(users))
        for lo in range(0, len(users), PAIRS_AT_ONCE):
            some = slice(lo, lo + PAIRS_AT_ONCE)
            own = self.users_[users[some]]
            here = self.context_rows(None if context is None else context[some], len(own))
            rows = self.items_[items[some]]
            crossed = np.einsum("ij,ij->i", own[:, :-1] + here[:, :-1], rows[:, :-1], dtype=np.float64)
            crossed += np.einsum("ij,ij->i", own[:, :-1], here[:, :-1], dtype=np.float64)
            totals[some] = crossed + own[:, -1] + here[:, -1] + rows[:, -1]
        return totals

    def state(self) -> Arrays:
        """Sums of users and items, vectors of the context and of columns, and how these are read."""
        return {
            "users": self.users_,
            "items": self.items_,
            "context": self.context_,
            "encoder": np.frombuffer(self.encoder_.to_json(), np.uint8),
            **self.column_state(),
        }

    def layout(self, train: InteractionMatrix) -> Layout:
        """All of one width."""
        return {
            "users": ArraySpec("float32", (len(train.users), "width")),
            "items": ArraySpec("float32", (len(train.items), "width")),
            "context": ArraySpec("float32", ("features of the context", "width")),
            "encoder": ArraySpec("uint8", ("letters of the context",)),
            **self.column_layout(),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load everything. Raises DataError where the encoder and the features do not fit each other."""
        self.train_ = train
        self.load_columns(arrays)
        self.encoder_ = ContextEncoder.from_json(arrays["encoder"].tobytes())
        self.users_, self.items_, self.context_ = arrays["users"], arrays["items"], arrays["context"]
        if self.items_.shape[1] < 2:
            raise DataError(f"{self.family}: array 'items' must hold a vector and a weight", where="items")
        if len(self.context_) != sum(self.encoder_.n_features):
            raise DataError(f"{self.family}: array 'context' must hold every feature of the encoder", where="context")
        self._join()
        return self


def _collapsed(own: np.ndarray, side: SideColumns, table: np.ndarray) -> np.ndarray:
    """Rows of ids and what their columns add: float32 (n, width)."""
    matrix = side.matrix()
    squares = own[:, :-1] ** 2 + matrix.power(2) @ table[:, :-1] ** 2
    return _with_products(own + matrix @ table, squares)


def _with_products(sums: np.ndarray, squares: np.ndarray) -> np.ndarray:
    """Half of the squared sum less the squares, which is the sum of the products of two, added to the weight."""
    sums = np.array(sums, dtype=np.float32)
    sums[:, -1] += 0.5 * (sums[:, :-1] ** 2 - squares).sum(axis=1)
    return sums
