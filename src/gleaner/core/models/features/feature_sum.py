"""Factors that are sums over what users and items are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.capabilities import SideName
from gleaner.core.models.base.factor_model import random_factors
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.machines.stepped_factors import SteppedFactors
from gleaner.core.models.machines.stepping import ContextColumns, Machine, SideColumns, StepPlan, Tables


@dataclass(repr=False)
class FeatureSum(SteppedFactors):
    """score(u, i) = x_u . y_i + b_i, x_u the sum of a vector of the user's own and one of each of the user's features,
    times the feature's amount; y_i and b_i likewise for the item (Chen et al. 2012).

    Fitted by `loss`: bpr, warp or logistic as those families, over the same draws, with Adagrad's step sizes (Duchi,
    Hazan, Singer 2011). Each column has length one, and all columns of a row together `feature_weight`; an own vector
    has 1. Columns left out of `item_columns` and `user_columns` are not looked at, null looks at all, and with none of
    either these are plain factors. Vectors of columns, which many rows share, step up to 128 times an epoch.
    """

    family: ClassVar[str] = "feature_sum"
    summary: ClassVar[str] = "factors that are sums over ids and what users and items are"
    source: ClassVar[str] = "Chen, Zhang, Lu, Chen, Zheng, Yu 2012; Duchi, Hazan, Singer 2011"
    unfit: ClassVar[str] = "when its ablation says that the columns add nothing: the plain families are faster"
    effort: ClassVar[str] = "per iteration about 8 rank cells draws"

    def machine(self, train: InteractionMatrix, sides: tuple[SideColumns, SideColumns]) -> Machine:
        """Only products of a user's with an item's features, and weights of the items' alone."""
        n_users, n_items = train.shape
        E, F = random_factors(
            self.seed, (n_users + sides[0].n_features, n_items + sides[1].n_features), self.rank, self.init_scale
        )
        X, Y = (np.column_stack([each, np.zeros(len(each), np.float32)]) for each in (E, F))
        tables = Tables(
            X[:n_users].copy(),
            Y[:n_items].copy(),
            X[n_users:].copy(),
            Y[n_items:].copy(),
            np.zeros((0, self.rank + 1), np.float32),
        )
        n_fields = 2 + len(sides[0].names) + len(sides[1].names)
        plan = StepPlan(
            self.loss,
            second=False,
            user_weights=False,
            margin=self.margin,
            trials=self.draws,
            masks=np.ones((n_fields, self.rank), np.float32),
            penalties=np.full(n_fields, self.regularisation),
        )
        return Machine(train, sides, ContextColumns.none(train.n_cells), tables, plan)

    def update_factors(self) -> None:
        """Sums of the vectors as they stand."""
        users, items = self._sides
        tables = self._machine.tables
        X = tables.users + users.matrix() @ tables.user_columns
        Y = tables.items + items.matrix() @ tables.item_columns
        X[:, -1] = 1
        self.user_factors_, self.item_factors_ = X.astype(np.float32), np.ascontiguousarray(Y, dtype=np.float32)
        self.keep_columns()

    def factors_of_rows(self, side: SideName, rows: pl.DataFrame) -> np.ndarray:
        """Sums of the vectors of their features."""
        table = self.user_columns_ if side == "users" else self.item_columns_
        factors = np.asarray(self.side_of(side, rows).matrix() @ table, dtype=np.float32)
        if side == "users":
            factors[:, -1] = 1
        return factors

    def state(self) -> Arrays:
        """Factors, and the vectors of columns, by which new rows of the tables are scored."""
        return super().state() | self.column_state()

    def layout(self, train: InteractionMatrix) -> Layout:
        """Both."""
        return {**super().layout(train), **self.column_layout()}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load both."""
        self.load_columns(arrays)
        return super().load_state(arrays, train)
