"""Non-negative matrix factorisation of observed values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.kernels import descent
from gleaner.core.models.base.factor_model import random_factors, require_rank
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.values.value_factors import ValueFactors
from gleaner.core.parallel import RANGES_PER_THREAD, balanced_ranges, default_threads, run_ranges

SWEEPS = 1


@dataclass(repr=False)
class NmfValues(ValueFactors):
    """r_ui = low + x_u . y_i with no entry of x and y below 0, low the lower end of the scale. Minimises sum over
    observed of (r - low - x_u.y_i)^2 + regularisation (sum_u n_u |x_u|^2 + sum_i n_i |y_i|^2) by coordinate descent
    (Lee, Seung 1999 for the idea; Hsieh, Dhillon 2011 for the steps). Factors add up and never cancel, so each can
    be read as a theme."""

    family: ClassVar[str] = "nmf_values"
    summary: ClassVar[str] = "values as sums of themes that never cancel"
    source: ClassVar[str] = "Lee, Seung 1999; Hsieh, Dhillon 2011"
    unfit: ClassVar[str] = "when only accuracy counts: the constraint costs some"
    effort: ClassVar[str] = "per iteration about 8 rank cells"

    rank: int = parameter(16, "length of the factors")
    regularisation: float = parameter(0.2, "lambda of the objective")
    iterations: int = parameter(30, "passes over the data")
    seed: int = parameter(1, "of every random choice")

    def __post_init__(self) -> None:
        require_range("rank", self.rank, 1, 1024, whole=True)
        require_range("regularisation", self.regularisation, 0)
        require_range("iterations", self.iterations, 1, 1000, whole=True)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Coordinate descent on one side at a time."""
        require_rank(self.rank, train)
        self.learn_biases(train)
        low = self.scale_[0]
        typical = float(np.sqrt(max(self.biases_.mean - low, 1e-3)))
        X, Y = (
            typical * (0.5 + np.abs(part)) / np.sqrt(self.rank)
            for part in random_factors(self.seed, train.shape, self.rank, np.sqrt(self.rank))
        )
        X, Y = X.astype(np.float32), Y.astype(np.float32)
        indptr, indices, values = train.by_item
        sides = (
            (train.indptr, train.indices, train.values - np.float32(low), Y, X),
            (indptr, indices, values - np.float32(low), X, Y),
        )
        for iteration in range(1, self.iterations + 1):
            for side in sides:
                self._half(*side)
            self.set_factors(low, np.zeros(len(X)), np.zeros(len(Y)), X, Y)
            losses = {"training": self.objective(train) / train.n_cells} if watch.follows else {}
            if not watch.round(self, iteration, self.iterations, losses):
                break
        self.warn_of_dead(watch)

    def _half(
        self, indptr: np.ndarray, indices: np.ndarray, values: np.ndarray, other: np.ndarray, mine: np.ndarray
    ) -> None:
        def work(lo: int, hi: int) -> None:
            descent.nonnegative_rows(lo, hi, indptr, indices, values, other, self.regularisation, SWEEPS, mine)

        run_ranges(work, balanced_ranges(indptr, RANGES_PER_THREAD * default_threads()))

    def objective(self, train: InteractionMatrix) -> float:
        """The value of the objective, in float64."""
        miss = train.values - self.predict(train.user_rows, train.indices).astype(np.float64)
        total = float(miss @ miss)
        for factors, counts in (
            (self.user_factors_, np.diff(train.indptr)),
            (self.item_factors_, np.diff(train.by_item[0])),
        ):
            total += self.regularisation * float(counts @ (factors[:, : self.rank].astype(np.float64) ** 2).sum(axis=1))
        return total

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Coordinate descent for one user, to the end."""
        x = self._one(self.item_factors_, item_rows, values)
        return np.concatenate([x, [self.scale_[0], 1.0]]).astype(np.float32)

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Coordinate descent for one item, to the end."""
        return np.concatenate([self._one(self.user_factors_, user_rows, values), [1.0, 0.0]]).astype(np.float32)

    def _one(self, other: np.ndarray, rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        mine = np.full((1, self.rank), 0.5, dtype=np.float32)
        cells = (
            np.array([0, len(rows)]),
            np.asarray(rows, np.int32),
            np.asarray(values, np.float32) - np.float32(self.scale_[0]),
        )
        theirs = np.ascontiguousarray(other[:, : self.rank])
        descent.nonnegative_rows(0, 1, *cells, theirs, self.regularisation, 200, mine)
        return mine[0]
