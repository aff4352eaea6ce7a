"""Linear item-item model: ridge regression in closed form with a zero diagonal."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
from scipy import sparse
from scipy.linalg import lapack
from scipy.sparse.linalg import LinearOperator, cg

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import DataError, InputError, require_range
from gleaner.core.kernels.gram import gram_rows
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.history import LearnedHistoryModel
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned, no_array
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.base.weighting import WEIGHTING_MEANS, Weighting, require_weighting, weigh
from gleaner.core.models.linear import chosen_regularisation
from gleaner.core.parallel import RANGES_PER_THREAD, balanced_ranges, default_threads, run_ranges

MIRRORED = 512
"""Rows turned at a time, so that both sides stay in cache."""

MAX_ITEMS = 25_000
"""The items x items system is solved dense in float64: 5 GB at this size."""


@dataclass(repr=False)
class ItemLinear(LearnedHistoryModel):
    """score(u, i) = sum over j in the history of u of x_uj B_ji, B the solution of

        minimise |X - X B|^2 + sum_j (regularisation + p / (1 - p) |x_j|^2) |B_j.|^2   with B_ii = 0

    in closed form: P = (X'X + penalty)^-1, B_ji = -P_ji / P_ii (Steck 2019). p is `dropout`: its term is what dropping
    a share p of the history at random amounts to (Steck 2020). x is the matrix after `weighting`. A new item's column
    is the same ridge regression, of who has it on all other items.

    A `regularisation` that is not given is chosen: a fifth of the cells of some users is held out, and the one that
    ranks them best is taken (`chosen_regularisation`).
    """

    family: ClassVar[str] = "item_linear"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "each item as a ridge regression on all others, in closed form"
    source: ClassVar[str] = "Steck 2019; Steck 2020"
    unfit: ClassVar[str] = "more than 25,000 items"
    effort: ClassVar[str] = (
        "sum of squared history lengths, then about items^3; memory two dense items x items in float64; choosing the "
        "regularisation takes some ten times as much for at most 1,500 of the items"
    )

    regularisation: float | None = parameter(None, "lambda of the objective; not given: chosen on held-out cells")
    dropout: float = parameter(0.5, "p: p / (1 - p) of each diagonal entry is added too")
    weighting: Weighting = parameter("binary", WEIGHTING_MEANS)
    weights_: np.ndarray = learned(no_array)
    regularisation_: float = learned(lambda: chosen_regularisation.DEFAULT)

    def __post_init__(self) -> None:
        if self.regularisation is not None:
            require_range("regularisation", self.regularisation, 1e-6)
        require_range("dropout", self.dropout, 0, 0.99)
        require_weighting(self.weighting)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """The Gram matrix, then about n_items^3 operations at LAPACK's speed; two dense float64 matrices."""
        choosing = 10 * min(shape[1], chosen_regularisation.MAX_ITEMS) ** 3 / 15
        operations = 6.0 * cells**2 / shape[0] + shape[1] ** 3 / 15
        return Cost(operations + (choosing if params["regularisation"] is None else 0), 16.0 * shape[1] ** 2)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Solve."""
        n_items = len(train.items)
        require_few_items(self.family, n_items, MAX_ITEMS)
        self.keep_training(train)
        X = self._rows(train.indptr, train.indices, self.x_)
        if self.regularisation is None:
            self.regularisation_ = chosen_regularisation.choose_regularisation(X, _gram, self._solve)
        else:
            self.regularisation_ = self.regularisation
        watch.report_progress(0.3)
        gram = _gram(X)
        watch.report_progress(0.5)
        self.weights_ = self._solve(gram, self.regularisation_)
        watch.report_progress(1.0)

    def chosen(self) -> dict[str, float]:
        """Return the regularisation, where it was chosen."""
        return {"regularisation": self.regularisation_} if self.regularisation is None else {}

    def _solve(self, gram: np.ndarray, regularisation: float) -> np.ndarray:
        """Return B of a Gram matrix given from the diagonal on, which is overwritten: float32 (n_items, n_items)."""
        gram.flat[:: len(gram) + 1] += self._penalty(gram.diagonal().copy(), regularisation)
        weights = _inverse(gram)
        weights /= -weights.diagonal().copy()
        np.fill_diagonal(weights, 0.0)
        return weights.astype(np.float32)

    def _penalty(self, squares: np.ndarray, regularisation: float) -> np.ndarray:
        return regularisation + self.dropout / (1 - self.dropout) * squares

    def weigh(self, values: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        """By `weighting`."""
        return weigh(values, self.weighting, self.family)

    def _rows(self, indptr: np.ndarray, items: np.ndarray, x: np.ndarray) -> sparse.csr_array:
        return sparse.csr_array((x, items, indptr), shape=(len(indptr) - 1, len(self.trained_on.items)))

    def weights_to(self, item_row: int) -> np.ndarray:
        """Column i of B."""
        return self.weights_[:, item_row]

    def times_weights(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Histories times B."""
        return self._rows(bounds, items, values) @ self.weights_

    def column_of(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The ridge regression of a new item on all others, by conjugate gradients on the sparse system."""
        train = self.trained_on
        X = self._rows(train.indptr, train.indices, self.x_.astype(np.float64))
        penalty = self._penalty(np.asarray(X.multiply(X).sum(axis=0)).ravel(), self.regularisation_)
        target = np.zeros(len(train.users))
        target[user_rows] = self.weigh(values, np.empty(0))
        n = len(train.items)
        system = LinearOperator((n, n), matvec=lambda w: X.T @ (X @ w.ravel()) + penalty * w.ravel(), dtype=np.float64)
        column, _ = cg(system, X.T @ target, rtol=1e-8, maxiter=500)
        return column.astype(np.float32)

    def state(self) -> Arrays:
        """The weights B, and the regularisation they were solved with."""
        return {"weights": self.weights_, "regularisation": np.array([self.regularisation_])}

    def layout(self, train: InteractionMatrix) -> Layout:
        """A weight for every pair of items, and one number."""
        weights = ArraySpec("float32", (len(train.items), len(train.items)))
        return {"weights": weights, "regularisation": ArraySpec("float64", (1,))}

    def brought_up(self, arrays: Arrays) -> Arrays:
        """Return the state with a regularisation: one of before it could be chosen has none."""
        if "regularisation" in arrays:
            return arrays
        fixed = chosen_regularisation.DEFAULT if self.regularisation is None else self.regularisation
        return {**arrays, "regularisation": np.array([fixed], dtype=np.float64)}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the weights. Raises DataError where the regularisation is not above 0."""
        regularisation = float(arrays["regularisation"][0])
        if not regularisation > 0:
            raise DataError(f"{self.family}: the regularisation of a state must be above 0, not {regularisation:g}")
        self.weights_, self.regularisation_ = arrays["weights"], regularisation
        return self.keep_training(train)


def _gram(X: sparse.csr_array) -> np.ndarray:
    """Return X'X of a matrix with rising items in each row, from the diagonal on: float64 (n_items, n_items), zero
    below."""
    n_items = X.shape[1]
    turned = X.tocsc()
    by_item = turned.indptr.astype(np.int32), turned.indices.astype(np.int32), turned.data
    by_user = X.indptr.astype(np.int64), X.indices.astype(np.int32), X.data
    gram = np.zeros((n_items, n_items))
    ranges = balanced_ranges(turned.indptr.astype(np.int64), RANGES_PER_THREAD * default_threads())
    run_ranges(lambda lo, hi: gram_rows(lo, hi, *by_item, *by_user, gram), ranges)
    return gram


def require_few_items(family: str, n_items: int, most: int) -> None:
    """Raise InputError where a dense system over all items would be too large."""
    if n_items > most:
        raise InputError(
            f"{family} solves a dense system over all items, and {n_items:,} are more than {most:,}; "
            "prune with min_item, or take item_knn",
            where=family,
        )


def _inverse(upper: np.ndarray) -> np.ndarray:
    """The inverse of a symmetric positive definite matrix given from its diagonal on, by its Cholesky factor.

    The matrix is overwritten.
    """
    # what lies above the diagonal here lies below it to LAPACK, which counts by columns
    factor, failed = lapack.dpotrf(upper.T, lower=1, overwrite_a=1)
    if not failed:
        factor, failed = lapack.dpotri(factor, lower=1, overwrite_c=1)
    if failed:
        raise InputError("item_linear: the system cannot be solved; raise regularisation", where="regularisation")
    whole = factor.T
    for lo in range(0, len(whole), MIRRORED):
        hi = lo + MIRRORED
        whole[hi:, lo:hi] = whole[lo:hi, hi:].T
        corner = whole[lo:hi, lo:hi]
        corner[:] = np.triu(corner) + np.triu(corner, 1).T
    return whole
