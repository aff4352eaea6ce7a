"""Alternating least squares on observed values, with biases."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.kernels import value_steps as kernels
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import random_factors, require_rank
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.values.value_factors import ValueFactors
from gleaner.core.parallel import RANGES_PER_THREAD, balanced_ranges, default_threads, run_ranges


@dataclass(repr=False)
class AlsValues(ValueFactors):
    """Minimises, one side at a time and exactly,

    sum over observed of (r - mean - b_u - b_i - x_u.y_i)^2 + regularisation (sum_u n_u (|x_u|^2 + b_u^2) + items alike)

    Regularisation grows with the count of values (Zhou, Wilkinson, Schreiber, Pan 2008).
    """

    family: ClassVar[str] = "als_values"
    summary: ClassVar[str] = "values from factors and biases, by alternating least squares on what was observed"
    source: ClassVar[str] = "Zhou, Wilkinson, Schreiber, Pan 2008"
    unfit: ClassVar[str] = "very large ranks: a row costs rank^2 a value and rank^3"
    effort: ClassVar[str] = "per iteration rank^2 cells + rank^3 (users + items) / 3, on each side"

    rank: int = parameter(16, "length of the factors")
    regularisation: float = parameter(0.3, "lambda of the objective")
    iterations: int = parameter(12, "passes over the data")
    init_scale: float = parameter(0.1, "spread of the first factors, over the root of the rank")
    seed: int = parameter(1, "of every random choice")

    def __post_init__(self) -> None:
        require_range("rank", self.rank, 1, 1024, whole=True)
        require_range("regularisation", self.regularisation, 0)
        require_range("iterations", self.iterations, 1, 1000, whole=True)
        require_range("init_scale", self.init_scale, 1e-6, 10)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """rank^2 a cell and rank^3 / 3 a row, on both sides."""
        rank = params["rank"] + 1
        return Cost(params["iterations"] * (1.5 * rank**2 * cells + rank**3 * sum(shape) / 3), 8.0 * rank * sum(shape))

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Alternate."""
        require_rank(self.rank, train)
        self.learn_biases(train)
        X, Y = random_factors(self.seed, train.shape, self.rank, self.init_scale)
        bu, bi, mean = np.zeros(len(X), np.float32), self.biases_.item.copy(), np.float32(self.biases_.mean)
        by_item = train.by_item
        for iteration in range(1, self.iterations + 1):
            self._half((train.indptr, train.indices, train.values), mean, Y, bi, X, bu, watch)
            self._half(by_item, mean, X, bu, Y, bi, watch)
            self.set_factors(float(mean), bu, bi, X, Y)
            losses = {"training": self.objective(train) / train.n_cells} if watch.follows else {}
            if not watch.round(self, iteration, self.iterations, losses):
                break
        self.warn_of_dead(watch)

    def _half(
        self,
        cells: Any,
        mean: np.float32,
        other: np.ndarray,
        other_bias: np.ndarray,
        mine: np.ndarray,
        bias: np.ndarray,
        watch: Watch,
    ) -> None:
        indptr, indices, values = cells
        penalty = np.float64(self.regularisation)

        def work(lo: int, hi: int) -> None:
            kernels.solve_value_rows(lo, hi, indptr, indices, values, mean, other, other_bias, penalty, mine, bias)

        run_ranges(work, balanced_ranges(indptr, RANGES_PER_THREAD * default_threads()))

    def objective(self, train: InteractionMatrix) -> float:
        """The value of the objective, in float64."""
        miss = train.values - self.predict(train.user_rows, train.indices).astype(np.float64)
        rank, mean = self.rank, self.biases_.mean
        total = float(miss @ miss)
        for factors, bias, counts in (
            (self.user_factors_[:, :rank], self.user_factors_[:, rank] - mean, np.diff(train.indptr)),
            (self.item_factors_[:, :rank], self.item_factors_[:, rank + 1], np.diff(train.by_item[0])),
        ):
            squares = (factors.astype(np.float64) ** 2).sum(axis=1) + bias.astype(np.float64) ** 2
            total += self.regularisation * float(counts @ squares)
        return total
