"""Weighted alternating least squares for implicit feedback."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import InputError, ParameterError, require_range
from gleaner.core.kernels import als as kernels
from gleaner.core.models.base.capabilities import Explains, ExplainsHistory, HasLoss, Refreshable, Terms
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import (
    REFRESH_SHARE,
    FactorModel,
    carry_over,
    pair_products,
    random_factors,
    require_rank,
)
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.watching import HeldOutCells, Watch
from gleaner.core.models.base.weighting import WEIGHTING_MEANS, Weighting, require_weighting, weigh
from gleaner.core.parallel import RANGES_PER_THREAD, balanced_ranges, default_threads, one_blas_thread, run_ranges

SOLVERS = ("cg", "exact", "blocks")


@dataclass(repr=False)
class Als(FactorModel, Refreshable, HasLoss, Explains, ExplainsHistory):
    """Factors x_u, y_i that minimise

        sum over observed of w_ui (1 - x_u.y_i)^2  +  a0 * sum over all (u, i) of (x_u.y_i)^2
        + sum_u r_u |x_u|^2 + sum_i r_i |y_i|^2,    r_u = regularisation * (n_u + a0 * n_items)^v

    one side at a time. Hu, Koren, Volinsky 2008 for the objective; Rendle, Krichene, Zhang, Koren 2022 for the
    unobserved weight a0 and the frequency-scaled regularisation (exponent v).

    a0 = `unobserved_weight` * cells / (users * items): the parameter is the weight of all unobserved cells together
    against that of all observed ones, so it means the same on a dense and on a sparse catalogue. w_ui is the cell's
    value over the mean value (`weighting: value`), log(1 + value) over its mean (`log`), or 1 (`binary`).

    `solver`: `cg` takes `cg_steps` conjugate-gradient steps a row (Takacs, Pilaszy, Tikk 2011), `exact` solves each
    row,
    `blocks` solves `block` columns at a time (Rendle, Krichene, Zhang, Koren 2021), which makes large ranks cheap.
    """

    family: ClassVar[str] = "als"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "latent tastes learned from what was and was not touched"
    source: ClassVar[str] = "Hu, Koren, Volinsky 2008; Takacs, Pilaszy, Tikk 2011; Rendle, Krichene, Zhang, Koren 2022"
    unfit: ClassVar[str] = "ratings that say dislike: values are weights of interest"
    effort: ClassVar[str] = "per iteration about 4 (cg_steps + 1) rank (2 cells + (users + items) rank)"

    rank: int = parameter(32, "length of the factors")
    regularisation: float = parameter(0.03, "lambda of the objective")
    unobserved_weight: float = parameter(
        3.0, "weight of all unobserved cells together, against that of all observed ones"
    )
    frequency_scaling: float = parameter(1.0, "exponent of (n + a0 x others) in the regularisation")
    weighting: Weighting = parameter("log", WEIGHTING_MEANS)
    iterations: int = parameter(15, "passes over the data")
    solver: Literal["cg", "exact", "blocks"] = parameter("cg", "`cg`, `exact` or `blocks`")
    cg_steps: int = parameter(3, "conjugate-gradient steps a row")
    block: int = parameter(16, "columns solved at a time by `blocks`")
    init_scale: float = parameter(0.1, "spread of the first factors, over the root of the rank")
    seed: int = parameter(1, "of every random choice")
    weight_unit_: float = learned(lambda: 1.0)
    everywhere_: float = learned(lambda: 0.0)
    grams_: dict[str, np.ndarray] = learned(dict)

    def __post_init__(self) -> None:
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("regularisation", self.regularisation, 0)
        require_range("unobserved_weight", self.unobserved_weight, 1e-6, 1e6)
        require_range("frequency_scaling", self.frequency_scaling, 0, 2)
        require_range("iterations", self.iterations, 1, 1000, whole=True)
        require_range("cg_steps", self.cg_steps, 1, 100, whole=True)
        require_range("block", self.block, 1, 4096, whole=True)
        require_range("init_scale", self.init_scale, 1e-6, 10)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)
        require_weighting(self.weighting)
        if self.solver not in SOLVERS:
            raise ParameterError(f"solver must be one of {', '.join(SOLVERS)}, not {self.solver!r}", where="solver")

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """About 4 (cg_steps + 1) rank (2 cells + (users + items) rank) an iteration."""
        rank, steps = params["rank"], params["cg_steps"] + 1
        if params["solver"] == "exact":
            steps = rank / 2
        turn = 2.0 * steps * rank * (2 * cells + sum(shape) * rank)
        return Cost(params["iterations"] * turn / 4, 4.0 * rank * sum(shape) + 24.0 * cells)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Alternate."""
        require_rank(self.rank, train)
        self._measure(train)
        self.train_ = train
        self.user_factors_, self.item_factors_ = random_factors(self.seed, train.shape, self.rank, self.init_scale)
        self._alternate(train, self.iterations, watch)

    def _measure(self, train: InteractionMatrix) -> None:
        """The mean weight, and what one unobserved cell weighs."""
        self.weight_unit_ = self._mean_weight(train.values)
        n_users, n_items = train.shape
        self.everywhere_ = self.unobserved_weight * train.n_cells / n_users / n_items

    def _alternate(self, train: InteractionMatrix, iterations: int, watch: Watch) -> None:
        by_user = (train.indptr, train.indices, self._weights(train.values))
        indptr, indices, values = train.by_item
        by_item = (indptr, indices, self._weights(values))
        X, Y = self.user_factors_, self.item_factors_
        for iteration in range(1, iterations + 1):
            start = (iteration - 1) / iterations
            self._half(by_user, Y, X, watch.part(start, start + 0.5 / iterations, iteration))
            self._half(by_item, X, Y, watch.part(start + 0.5 / iterations, start + 1 / iterations, iteration))
            losses = {"training": self.objective(train) / train.n_cells} if watch.follows else {}
            if not watch.round(self, iteration, iterations, losses):
                break
        self.warn_of_dead(watch)

    def refresh(self, train: InteractionMatrix, old: Model, watch: Watch) -> None:
        """A fifth of the iterations from the factors of an older model; users and items it did not know are solved for
        in the first half-steps."""
        assert isinstance(old, Als)
        self.require_fit(train)
        self.require_same_rank(old, train)
        self._measure(train)
        self.train_ = train
        X, Y = random_factors(self.seed, train.shape, self.rank, self.init_scale)
        carry_over(X, train.users, old.user_factors_, old.trained_on.users)
        carry_over(Y, train.items, old.item_factors_, old.trained_on.items)
        self.user_factors_, self.item_factors_ = X, Y
        self._alternate(train, max(2, self.iterations // REFRESH_SHARE), watch)

    def _weights(self, values: np.ndarray) -> np.ndarray:
        return weigh(values, self.weighting, self.family) / np.float32(self.weight_unit_)

    def _mean_weight(self, values: np.ndarray) -> float:
        mean = float(weigh(values, self.weighting, self.family).mean(dtype=np.float64))
        if mean == 0:
            raise InputError("als takes values as weights, and all of them are zero", where="value")
        return mean

    def _ridge(self, counts: np.ndarray, n_other: int) -> np.ndarray:
        frequency = counts + self.everywhere_ * n_other
        return (self.regularisation * frequency**self.frequency_scaling).astype(np.float32)

    def _gram(self, other: np.ndarray) -> np.ndarray:
        # one BLAS thread: the order of the sum, and so the model, must not depend on the number of cores
        with one_blas_thread():
            return (other.T @ other) * np.float32(self.everywhere_)

    def _half(
        self,
        cells: tuple[np.ndarray, np.ndarray, np.ndarray],
        other: np.ndarray,
        mine: np.ndarray,
        progress: Any,
    ) -> None:
        """One half-step: solve every row of `mine` against `other`."""
        indptr, indices, weights = cells
        self.grams_.clear()
        gram = self._gram(other)
        ridge = self._ridge(np.diff(indptr), len(other))

        def work(lo: int, hi: int) -> None:
            if self.solver == "cg":
                kernels.solve_rows(lo, hi, indptr, indices, weights, other, gram, ridge, self.cg_steps, mine)
            else:
                width = self.rank if self.solver == "exact" else min(self.block, self.rank)
                kernels.solve_blocks(lo, hi, indptr, indices, weights, other, gram, ridge, width, mine)

        run_ranges(work, balanced_ranges(indptr, RANGES_PER_THREAD * default_threads()), progress=progress)

    def objective(self, train: InteractionMatrix) -> float:
        """The value of the objective at the learned factors, in float64."""
        X, Y = self.user_factors_, self.item_factors_
        weights = self._weights(train.values)
        per_user = np.zeros(len(X))

        def work(lo: int, hi: int) -> None:
            kernels.observed_loss(lo, hi, train.indptr, train.indices, weights, X, Y, per_user)

        run_ranges(work, balanced_ranges(train.indptr, RANGES_PER_THREAD))
        X64, Y64 = X.astype(np.float64), Y.astype(np.float64)
        everywhere = np.sum((X64.T @ X64) * (Y64.T @ Y64)) * self.everywhere_
        ridge = self._ridge(np.diff(train.indptr), len(Y)) @ (X64**2).sum(axis=1)
        ridge += self._ridge(np.diff(train.by_item[0]), len(X)) @ (Y64**2).sum(axis=1)
        return float(per_user.sum() + everywhere + ridge)

    def held_out_loss(self, held_out: HeldOutCells) -> float:
        """As the objective has it, a held cell of the mean weight: (1 - x_u . y_i)^2, and its share of all cells."""
        miss = 1 - pair_products(self.user_factors_, self.item_factors_, held_out.users, held_out.items)
        X, Y = self.user_factors_.astype(np.float64), self.item_factors_.astype(np.float64)
        everywhere = np.sum((X.T @ X) * (Y.T @ Y)) * self.everywhere_
        return float(np.mean(miss**2) + everywhere / self.trained_on.n_cells)

    def _kept_gram(self, side: str, other: np.ndarray) -> np.ndarray:
        """The gram of factors that stay, for solving single rows against them."""
        if side not in self.grams_:
            self.grams_[side] = self._gram(other).astype(np.float64)
        return self.grams_[side]

    def _system(self, side: str, rows: np.ndarray, values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The normal equations of one row against the factors of a side: A (rank, rank) and w y (n, rank), in
        float64."""
        other = self.item_factors_ if side == "items" else self.user_factors_
        Y = other[rows].astype(np.float64)
        weighed = Y * self._weights(values).astype(np.float64)[:, None]
        ridge = self._ridge(np.array([len(rows)]), len(other))[0]
        return weighed.T @ Y + self._kept_gram(side, other) + ridge * np.eye(self.rank), weighed

    def _solve(self, side: str, rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        A, weighed = self._system(side, rows, values)
        return np.linalg.solve(A, weighed.sum(axis=0)).astype(np.float32)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The exact user factor for some items and values: float32 (rank,)."""
        return self._solve("items", item_rows, values)

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The exact item factor for some users and values: float32 (rank,)."""
        return self._solve("users", user_rows, values)

    def terms(self, user_row: int, item_row: int) -> Terms:
        """w_uj y_i' A^-1 y_j for each item j of the history: they add up to the score with the user's exact factor
        (Hu, Koren, Volinsky 2008, section 5), A being the user's normal equations."""
        return self.terms_of_history(*self.trained_on.history(user_row), item_row)

    def terms_of_history(self, item_rows: np.ndarray, values: np.ndarray, item_row: int) -> Terms:
        """Return the terms of `terms` for a history of a user that training did not know."""
        items = item_rows
        A, weighed = self._system("items", items, values)
        adds = weighed @ np.linalg.solve(A, self.item_factors_[item_row].astype(np.float64))
        weights = self._weights(values).astype(np.float64)
        likeness = np.divide(adds, weights, out=np.zeros_like(adds), where=weights > 0)
        return Terms("item", items, {"weight": weights, "likeness": likeness, "adds": adds}, "weight * likeness")

    def state(self) -> Arrays:
        """Both factor matrices, the mean weight, the weight of an unobserved cell."""
        return super().state() | {"units": np.array([self.weight_unit_, self.everywhere_])}

    def layout(self, train: InteractionMatrix) -> Layout:
        """The two numbers beside the factors."""
        return {**super().layout(train), "units": ArraySpec("float64", (2,))}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the factors."""
        self.weight_unit_, self.everywhere_ = (float(unit) for unit in arrays["units"])
        return super().load_state(arrays, train)
