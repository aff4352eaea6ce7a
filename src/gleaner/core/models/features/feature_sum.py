"""Factors that are sums over what users and items are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.factor_model import random_factors
from gleaner.core.models.base.protocol import Arrays, learned, no_array
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

    user_embeddings_: np.ndarray = learned(no_array)
    item_embeddings_: np.ndarray = learned(no_array)

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
        self.user_embeddings_ = np.concatenate([tables.users, tables.user_columns])[:, :-1]
        self.item_embeddings_ = np.concatenate([tables.items, tables.item_columns])

    def forget_untouched(self, train: InteractionMatrix) -> None:
        """A user without a cell is what their columns say."""
        self._machine.tables.users[np.diff(train.indptr) == 0] = 0
        self.update_factors()

    def state(self) -> Arrays:
        """Factors, and the vectors they are sums of: own ones first, then one of each feature."""
        return super().state() | {"user_embeddings": self.user_embeddings_, "item_embeddings": self.item_embeddings_}

    def layout(self, train: InteractionMatrix) -> Layout:
        """As many vectors as there are features, those of the rows themselves first."""
        return {
            **super().layout(train),
            "user_embeddings": ArraySpec("float32", ("user features", self.rank)),
            "item_embeddings": ArraySpec("float32", ("item features", self.rank + 1)),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load both."""
        self.user_embeddings_, self.item_embeddings_ = arrays["user_embeddings"], arrays["item_embeddings"]
        return super().load_state(arrays, train)
