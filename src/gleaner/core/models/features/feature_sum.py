"""Factors that are sums over what users and items are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Column, Features, chosen, of_length_one, require_columns
from gleaner.core.errors import ParameterError, require_range
from gleaner.core.kernels import feature_steps as kernels
from gleaner.core.models.base.capabilities import TakesFeatures
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import random_factors, require_rank
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned, no_array
from gleaner.core.models.base.ranked_factors import RankedFactors
from gleaner.core.models.base.watching import Watch

LOSSES = {"bpr": kernels.PAIRWISE, "warp": kernels.RANKED, "logistic": kernels.SINGLE}
FIRST_SQUARES = 1.0
"""What sums of squared gradients start from, so that first steps are not all of the same length."""


@dataclass(repr=False)
class FeatureSum(RankedFactors, TakesFeatures):
    """score(u, i) = x_u . y_i + b_i, x_u the sum of a vector of the user's own and one of each of the user's features,
    times the feature's amount; y_i and b_i likewise for the item (Chen et al. 2012).

    Fitted by `loss`: bpr, warp or logistic as those families, over the same draws, with Adagrad's step sizes (Duchi,
    Hazan, Singer 2011). Each column has length one, and all columns of a row together `feature_weight`; an own vector
    has 1. Columns left out of `item_columns` and `user_columns` are not looked at, null looks at all, and with none of
    either these are plain factors. Feature vectors are shared between users and items, so steps go one after another.
    """

    family: ClassVar[str] = "feature_sum"
    summary: ClassVar[str] = "factors that are sums over ids and what users and items are"
    source: ClassVar[str] = "Chen, Zhang, Lu, Chen, Zheng, Yu 2012; Duchi, Hazan, Singer 2011"
    unfit: ClassVar[str] = "when its ablation says that the columns add nothing: the plain families are much faster"
    effort: ClassVar[str] = "per iteration about 25 rank cells draws, of ten features a row, on one core"
    side_by_side: ClassVar[bool] = False

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
    user_embeddings_: np.ndarray = learned(no_array)
    item_embeddings_: np.ndarray = learned(no_array)

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.loss not in tuple(LOSSES):
            raise ParameterError(f"loss must be one of {', '.join(LOSSES)}, not {self.loss!r}", where="loss")
        require_columns("item_columns", self.item_columns)
        require_columns("user_columns", self.user_columns)
        require_range("feature_weight", self.feature_weight, 0, 100)
        require_range("margin", self.margin, 0, 100)
        require_range("trials", self.trials, 1, 1000, whole=True)
        require_range("negatives", self.negatives, 1, 1000, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Some ten features a row, read and written for each cell and each draw, on one thread."""
        draws = {"bpr": 2, "warp": 4, "logistic": 1 + params["negatives"]}[params["loss"]]
        work = params["iterations"] * cells * draws * 25.0 * (params["rank"] + 8)
        return Cost(work, 12.0 * params["rank"] * sum(shape), parallel=False)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Lay out both sides' features, then epochs."""
        require_rank(self.rank, train)
        self.train_ = train
        given = features or Features()
        sides = (
            self._rows(chosen(given.users, self.user_columns, "user_columns"), train.shape[0]),
            self._rows(chosen(given.items, self.item_columns, "item_columns"), train.shape[1]),
        )
        E, F = random_factors(self.seed, (sides[0].shape[1], sides[1].shape[1]), self.rank, self.init_scale)
        self.user_embeddings_, self.item_embeddings_ = E, np.column_stack([F, np.zeros(len(F), np.float32)])
        self._sides = [
            (
                side.indptr.astype(np.int64),
                side.indices.astype(np.int32),
                side.data,
                own,
                np.full_like(own, FIRST_SQUARES),
            )
            for side, own in zip(sides, (self.user_embeddings_, self.item_embeddings_), strict=True)
        ]
        self._summed = sides
        self.update_factors()
        self.run_epochs(train, self.iterations, watch)
        del self._sides, self._summed

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of both tables."""
        return {
            "item_columns": [each.name for each in chosen(features.items, self.item_columns, "item_columns")],
            "user_columns": [each.name for each in chosen(features.users, self.user_columns, "user_columns")],
        }

    def _rows(self, columns: list[Column], n: int) -> sparse.csr_array:
        """Every row's features: its own, then those of the columns."""
        own = sparse.eye_array(n, format="csr", dtype=np.float32)
        if not columns or self.feature_weight == 0:
            return sparse.csr_array(own)
        for each in columns:
            if each.matrix.shape[0] != n:
                raise ParameterError(f"column {each.name!r} has {each.matrix.shape[0]:,} rows of features for {n:,}")
        amount = np.float32(self.feature_weight / np.sqrt(len(columns)))
        scaled = [each.matrix if each.role in ("number", "date") else of_length_one(each.matrix) for each in columns]
        whole = sparse.csr_array(sparse.hstack([own, *(amount * each for each in scaled)], format="csr"))
        whole.sort_indices()
        return sparse.csr_array(whole, dtype=np.float32)

    def update_factors(self) -> None:
        """Sums of the vectors as they stand."""
        users, items = self._summed
        X, Y = users @ self.user_embeddings_, items @ self.item_embeddings_
        self.user_factors_ = np.column_stack([X, np.ones(len(X), np.float32)]).astype(np.float32)
        self.item_factors_ = np.ascontiguousarray(Y, dtype=np.float32)

    def forget_untouched(self, train: InteractionMatrix) -> None:
        """A user without a cell is what their columns say."""
        self.user_embeddings_[: train.shape[0]][np.diff(train.indptr) == 0] = 0
        self.update_factors()

    def pair_loss(self, having: np.ndarray, other: np.ndarray) -> np.ndarray:
        """That of the family the loss is named for."""
        if self.loss == "warp":
            return np.maximum(0, self.margin - having + other)
        if self.loss == "logistic":
            return np.logaddexp(0, -having) + np.logaddexp(0, other)
        return np.logaddexp(0, other - having)

    def epoch(self, train: InteractionMatrix, X: np.ndarray, Y: np.ndarray, rate: np.float32, seed: np.uint64) -> Any:
        """Steps on the vectors of features; X and Y are summed afterwards."""
        draws = {"bpr": 1, "warp": self.trials, "logistic": self.negatives}[self.loss]
        how = (LOSSES[self.loss], np.float32(self.margin), draws, len(train.items))
        penalty = np.float32(self.regularisation)
        users, items = self._sides

        def work(lo: int, hi: int, block_of: np.ndarray, own: np.ndarray, block: int) -> float:
            cells = (lo, hi, train.indptr, train.indices, block_of, own, block)
            return kernels.feature_epoch(*cells, users, items, rate, penalty, seed, *how)

        return work

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
