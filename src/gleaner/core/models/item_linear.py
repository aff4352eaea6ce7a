"""Linear item-item model: ridge regression in closed form with a zero diagonal."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from scipy import sparse
from scipy.linalg import lapack

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import CancelledError, InputError, require_range
from gleaner.core.models.protocol import Arrays, Model, Watch, require_cells
from gleaner.core.models.weighting import Weighting, require_weighting, weigh

MAX_ITEMS = 25_000
"""The items x items system is solved dense in float64: 5 GB at this size."""


@dataclass
class ItemLinear(Model):
    """score(u, i) = sum over j in the history of u of x_uj B_ji, B the solution of

        minimise |X - X B|^2 + sum_j (regularisation + p / (1 - p) |x_j|^2) |B_j.|^2   with B_ii = 0

    in closed form: P = (X'X + penalty)^-1, B_ji = -P_ji / P_ii (Steck 2019). p is `dropout`: its term is what dropping
    a share p of the history at random amounts to (Steck 2020). x is the matrix after `weighting`.
    """

    family: ClassVar[str] = "item_linear"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "each item as a ridge regression on all others, in closed form"
    folds_in: ClassVar[bool] = True

    regularisation: float = 50.0
    dropout: float = 0.5
    weighting: Weighting = "binary"
    weights_: np.ndarray = field(init=False, repr=False, default_factory=lambda: np.empty((0, 0), np.float32))
    train_: InteractionMatrix | None = field(init=False, repr=False, default=None)

    def __post_init__(self) -> None:
        require_range("regularisation", self.regularisation, 1e-6)
        require_range("dropout", self.dropout, 0, 0.99)
        require_weighting(self.weighting)

    def fit(self, train: InteractionMatrix, *, features: Any = None, watch: Watch | None = None) -> Self:
        """Solve. Cost: the sum over users of their squared history length, then about n_items^3 operations; memory two
        dense float64 matrices of items x items."""
        require_cells(train, self.family)
        n_items = len(train.items)
        if n_items > MAX_ITEMS:
            raise InputError(
                f"{self.family} solves a dense system over all items, and {n_items:,} are more than {MAX_ITEMS:,}; "
                "prune with min_item, or take item_knn",
                where="item_linear",
            )
        X = self._rows(train.indptr, train.indices, train.values, n_items)
        gram = (X.T @ X).astype(np.float64).toarray()
        _tell(watch, 0.4)
        diagonal = gram.diagonal().copy()
        gram.flat[:: n_items + 1] += self.regularisation + self.dropout / (1 - self.dropout) * diagonal
        weights = _inverse(gram)
        _tell(watch, 0.9)
        weights /= -weights.diagonal().copy()
        np.fill_diagonal(weights, 0.0)
        self.weights_, self.train_ = weights.astype(np.float32), train
        _tell(watch, 1.0)
        return self

    def effort(self) -> float:
        """A cubic solve."""
        return 2.0

    def _rows(self, indptr: np.ndarray, items: np.ndarray, values: np.ndarray, n_items: int) -> sparse.csr_array:
        weighed = weigh(values, self.weighting, self.family)
        return sparse.csr_array((weighed, items, indptr), shape=(len(indptr) - 1, n_items))

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Histories times the weights."""
        train = self.train_
        assert train is not None
        lengths = np.diff(train.indptr)[user_rows]
        bounds = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        places = np.repeat(train.indptr[user_rows] - bounds[:-1], lengths) + np.arange(bounds[-1])
        return self._rows(bounds, train.indices[places], train.values[places], len(train.items)) @ self.weights_

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The history itself: float32 (2, n), rows then values."""
        return np.vstack([item_rows, values]).astype(np.float32)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """The given history times the weights."""
        items, values = representation[0].astype(np.int64), weigh(representation[1], self.weighting, self.family)
        return values @ self.weights_[items]

    def state(self) -> Arrays:
        """The weights B."""
        return {"weights": self.weights_}

    def restore(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take the weights back."""
        self.weights_, self.train_ = arrays["weights"], train
        return self


def _inverse(matrix: np.ndarray) -> np.ndarray:
    """The inverse of a symmetric positive definite matrix, which is overwritten, by its Cholesky factor."""
    factor, failed = lapack.dpotrf(matrix.T, lower=0, overwrite_a=1)
    if not failed:
        factor, failed = lapack.dpotri(factor, lower=0, overwrite_c=1)
    if failed:
        raise InputError("item_linear: the system cannot be solved; raise regularisation", where="regularisation")
    lower = np.tril_indices(len(factor), -1)
    factor[lower] = factor.T[lower]
    return factor


def _tell(watch: Watch | None, done: float) -> None:
    if watch is not None and watch(done, 1, {}) is False:
        raise CancelledError
