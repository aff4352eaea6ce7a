"""What factor models share whose factors are sums over features, fitted by gradient steps."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features, chosen, require_columns
from gleaner.core.errors import ParameterError, require_range
from gleaner.core.models.base.blocks import Task
from gleaner.core.models.base.capabilities import HasLogOdds, TakesFeatures
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import pair_products, require_rank
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.ranked_factors import RankedFactors
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.machines.stepping import Machine, SideColumns

RANKING_LOSSES = ("bpr", "warp", "logistic")


@dataclass(repr=False)
class SteppedFactors(RankedFactors, TakesFeatures, HasLogOdds):
    """score(u, i) = x_u . y_i + b_i, each a sum over the features of the row, fitted by `loss`: bpr, warp or logistic
    as those families, over the same draws, with Adagrad's step sizes (Duchi, Hazan, Singer 2011).

    Each column has length one, and all columns of a row together `feature_weight`; the row's own vector has 1. Columns
    left out of `item_columns` and `user_columns` are not looked at, null looks at all. Own vectors step cell by cell;
    those of columns, which many rows share, step together up to 128 times an epoch.
    """

    regularisation: float = parameter(0.02, "lambda of the objective")
    learning_rate: float = parameter(0.1, "of the first epoch")
    decay: float = parameter(0.0, "the rate of epoch t is learning_rate / (1 + decay (t - 1))")
    iterations: int = parameter(30, "passes over the data")
    loss: Literal["bpr", "warp", "logistic"] = parameter("logistic", "`bpr`, `warp` or `logistic`")
    item_columns: list[str] | None = parameter(
        None, "columns of the item table to look at; none given: every one that says something"
    )
    user_columns: list[str] | None = parameter(
        None, "columns of the user table to look at; none given: every one that says something"
    )
    feature_weight: float = parameter(1.0, "length of all columns of a row together, against 1 of its own vector")
    margin: float = parameter(1.0, "by how much what a user has should lead")
    trials: int = parameter(20, "draws at most")
    negatives: int = parameter(3, "draws a cell")

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.loss not in RANKING_LOSSES:
            raise ParameterError(f"loss must be one of {', '.join(RANKING_LOSSES)}, not {self.loss!r}", where="loss")
        require_columns("item_columns", self.item_columns)
        require_columns("user_columns", self.user_columns)
        require_range("feature_weight", self.feature_weight, 0, 100)
        require_range("margin", self.margin, 0, 100)
        require_range("trials", self.trials, 1, 1000, whole=True)
        require_range("negatives", self.negatives, 1, 1000, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Three vectors read and written for each cell and each draw, and gathered for the columns."""
        draws = {"bpr": 2, "warp": 4, "logistic": 1 + params["negatives"]}[params["loss"]]
        work = params["iterations"] * cells * draws * 8.0 * (params["rank"] + 25)
        return Cost(work, 24.0 * params["rank"] * sum(shape))

    @property
    def draws(self) -> int:
        """Items drawn for a cell at most."""
        return {"bpr": 1, "warp": self.trials, "logistic": self.negatives}[self.loss]

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Lay out both sides' features, then epochs."""
        require_rank(self.rank, train)
        self.train_ = train
        given = features or Features()
        users = chosen(given.users, self.user_columns, "user_columns")
        items = chosen(given.items, self.item_columns, "item_columns")
        sides = (
            SideColumns.of(users, train.shape[0], self.feature_weight),
            SideColumns.of(items, train.shape[1], self.feature_weight),
        )
        self._machine = self.machine(train, sides)
        self._sides = sides
        self.update_factors()
        self.run_epochs(train, self.iterations, watch)
        del self._machine, self._sides

    @abstractmethod
    def machine(self, train: InteractionMatrix, sides: tuple[SideColumns, SideColumns]) -> Machine:
        """What is to be fitted, as it starts."""

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of both tables."""
        return {
            "item_columns": [each.name for each in chosen(features.items, self.item_columns, "item_columns")],
            "user_columns": [each.name for each in chosen(features.users, self.user_columns, "user_columns")],
        }

    def pair_loss(self, having: np.ndarray, other: np.ndarray) -> np.ndarray:
        """That of the family the loss is named for."""
        if self.loss == "warp":
            return np.maximum(0, self.margin - having + other)
        if self.loss == "logistic":
            return np.logaddexp(0, -having) + np.logaddexp(0, other)
        return np.logaddexp(0, other - having)

    @property
    def has_log_odds(self) -> bool:
        """By the logistic loss."""
        return self.loss == "logistic"

    def log_odds(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
        """x_u . y_i + b_i."""
        return pair_products(self.user_factors_, self.item_factors_, users, items)

    def epoch(self, train: InteractionMatrix, X: np.ndarray, Y: np.ndarray, rate: np.float32, seed: np.uint64) -> Task:
        """Steps on the vectors of features; X and Y are summed afterwards."""
        self._rate = rate
        return self._machine.task(rate, seed)

    def stretches(self, train: InteractionMatrix) -> int:
        """As many as the machine says."""
        return self._machine.stretches

    def end_stretch(self) -> None:
        """Columns move."""
        self._machine.move_columns(self._rate)
