"""Weighted alternating least squares for implicit feedback."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from threadpoolctl import threadpool_limits

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import InputError, ParameterError, require_range
from gleaner.core.kernels import als as kernels
from gleaner.core.models.protocol import Arrays, Factors, Model, Watch, require_cells
from gleaner.core.models.weighting import Weighting, require_weighting, weigh
from gleaner.core.parallel import RANGES_PER_THREAD, balanced_ranges, default_threads, run_ranges


@dataclass
class Als(Model):
    """Factors x_u, y_i that minimise

        sum over observed of w_ui (1 - x_u.y_i)^2  +  a0 * sum over all (u, i) of (x_u.y_i)^2
        + sum_u r_u |x_u|^2 + sum_i r_i |y_i|^2,    r_u = regularisation * (n_u + a0 * n_items)^v

    by conjugate-gradient steps on one side at a time. Hu, Koren, Volinsky 2008 for the objective; Takacs, Pilaszy,
    Tikk 2011 for the steps; Rendle, Krichene, Zhang, Koren 2022 for the unobserved weight a0 and the frequency-scaled
    regularisation (exponent v).

    w_ui is the cell's value over the mean value (`weighting: value`), log(1 + value) over its mean (`log`), or 1
    (`binary`): so `unobserved_weight` means the same whatever the scale of the values.
    """

    family: ClassVar[str] = "als"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "latent tastes learned from what was and was not touched"
    folds_in: ClassVar[bool] = True

    rank: int = 32
    regularisation: float = 0.03
    unobserved_weight: float = 0.1
    frequency_scaling: float = 1.0
    weighting: Weighting = "log"
    iterations: int = 15
    cg_steps: int = 3
    init_scale: float = 0.1
    seed: int = 1
    user_factors_: np.ndarray = field(init=False, repr=False, default_factory=lambda: np.empty((0, 0), np.float32))
    item_factors_: np.ndarray = field(init=False, repr=False, default_factory=lambda: np.empty((0, 0), np.float32))
    weight_unit_: float = field(init=False, repr=False, default=1.0)

    def __post_init__(self) -> None:
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("regularisation", self.regularisation, 0)
        require_range("unobserved_weight", self.unobserved_weight, 1e-6, 100)
        require_range("frequency_scaling", self.frequency_scaling, 0, 2)
        require_range("iterations", self.iterations, 1, 1000, whole=True)
        require_range("cg_steps", self.cg_steps, 1, 100, whole=True)
        require_range("init_scale", self.init_scale, 1e-6, 10)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)
        require_weighting(self.weighting)

    def fit(self, train: InteractionMatrix, *, features: Any = None, watch: Watch | None = None) -> Self:
        """Alternate. Cost of an iteration: about 4 * (cg_steps + 1) * rank * (2 cells + (users + items) * rank)."""
        require_cells(train, self.family)
        if self.rank > min(train.shape):
            raise ParameterError(
                f"rank {self.rank} is above what {train.shape[0]} users and {train.shape[1]} items can carry; "
                f"choose at most {min(train.shape)}",
                where="rank",
            )
        self.weight_unit_ = self._mean_weight(train.values)
        by_user = (train.indptr, train.indices, self._weights(train.values))
        indptr, indices, values = train.by_item
        by_item = (indptr, indices, self._weights(values))
        random = np.random.Generator(np.random.PCG64(self.seed))
        scale = self.init_scale / np.sqrt(self.rank)
        X, Y = (
            (random.standard_normal((n, self.rank), dtype=np.float32) * scale).astype(np.float32) for n in train.shape
        )
        for iteration in range(1, self.iterations + 1):
            self._half(by_user, Y, X, _part(watch, iteration, self.iterations, 0))
            self._half(by_item, X, Y, _part(watch, iteration, self.iterations, 1))
            if watch is not None and watch(iteration / self.iterations, iteration, {}) is False:
                break
        self.user_factors_, self.item_factors_ = X, Y
        return self

    def effort(self) -> float:
        """In proportion to passes and to the length of the factors."""
        return self.iterations * self.rank / 100

    def _weights(self, values: np.ndarray) -> np.ndarray:
        return weigh(values, self.weighting, self.family) / np.float32(self.weight_unit_)

    def _mean_weight(self, values: np.ndarray) -> float:
        mean = float(weigh(values, self.weighting, self.family).mean(dtype=np.float64))
        if mean == 0:
            raise InputError("als takes values as weights, and all of them are zero", where="value")
        return mean

    def _ridge(self, counts: np.ndarray, n_other: int) -> np.ndarray:
        frequency = counts + self.unobserved_weight * n_other
        return (self.regularisation * frequency**self.frequency_scaling).astype(np.float32)

    def _gram(self, other: np.ndarray) -> np.ndarray:
        # one BLAS thread: the order of the sum, and so the model, must not depend on the number of cores
        with threadpool_limits(limits=1, user_api="blas"):
            return (other.T @ other) * np.float32(self.unobserved_weight)

    def _half(
        self,
        cells: tuple[np.ndarray, np.ndarray, np.ndarray],
        other: np.ndarray,
        mine: np.ndarray,
        progress: Any,
    ) -> None:
        """One half-step: solve every row of `mine` against `other`."""
        indptr, indices, weights = cells
        gram = self._gram(other)
        ridge = self._ridge(np.diff(indptr), len(other))

        def work(lo: int, hi: int) -> None:
            kernels.solve_rows(lo, hi, indptr, indices, weights, other, gram, ridge, self.cg_steps, mine)

        run_ranges(work, balanced_ranges(indptr, RANGES_PER_THREAD * default_threads()), progress=progress)

    def objective(self, train: InteractionMatrix) -> float:
        """The value of the objective at the learned factors, in float64."""
        X, Y = self.user_factors_, self.item_factors_
        weights = self._weights(train.values)
        per_user = np.zeros(len(X))
        kernels.observed_loss(0, len(X), train.indptr, train.indices, weights, X, Y, per_user)
        X64, Y64 = X.astype(np.float64), Y.astype(np.float64)
        everywhere = np.sum((X64.T @ X64) * (Y64.T @ Y64)) * self.unobserved_weight
        ridge = self._ridge(np.diff(train.indptr), len(Y)) @ (X64**2).sum(axis=1)
        ridge += self._ridge(np.diff(train.by_item[0]), len(X)) @ (Y64**2).sum(axis=1)
        return float(per_user.sum() + everywhere + ridge)

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """x_u . y_i for every item."""
        return self.user_factors_[user_rows] @ self.item_factors_.T

    def factors(self) -> Factors:
        """The factors as they are."""
        return Factors(self.user_factors_, self.item_factors_)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The exact user factor for some items and values: float32 (rank,)."""
        Y = self.item_factors_[item_rows].astype(np.float64)
        weights = self._weights(values).astype(np.float64)
        ridge = self._ridge(np.array([len(item_rows)]), len(self.item_factors_))[0]
        A = (Y * weights[:, None]).T @ Y + self._gram(self.item_factors_) + ridge * np.eye(self.rank)
        return np.linalg.solve(A, Y.T @ weights).astype(np.float32)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Product with every item factor."""
        return self.item_factors_ @ representation

    def state(self) -> Arrays:
        """Both factor matrices and the mean weight."""
        unit = np.array([self.weight_unit_])
        return {"user_factors": self.user_factors_, "item_factors": self.item_factors_, "weight_unit": unit}

    def restore(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take the factors back."""
        self.user_factors_, self.item_factors_ = arrays["user_factors"], arrays["item_factors"]
        self.weight_unit_ = float(arrays["weight_unit"][0])
        return self


def _part(watch: Watch | None, iteration: int, of: int, half: int) -> Any:
    """Progress of one half-step as a share of the whole fit."""
    if watch is None:
        return None
    return lambda share: watch((iteration - 1 + (half + share) / 2) / of, iteration, {})
