"""What factor models of values share: mean + b_u + b_i + x_u . y_i, held as one product."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.capabilities import HasLoss
from gleaner.core.models.base.factor_model import FactorModel, ridge_fit
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.base.values import Biases, ValueModel, value_layout
from gleaner.core.models.base.watching import HeldOutCells


@dataclass(repr=False)
class ValueFactors(FactorModel, ValueModel, HasLoss):
    """r_ui = mean + b_u + b_i + x_u . y_i. The factors carry two more columns, (x_u, mean + b_u, 1) and (y_i, 1, b_i).

    Someone new gets the ridge regression of their values on the items' factors and a bias; a new item likewise.
    """

    bias_columns: ClassVar[int] = 2

    def set_factors(
        self, mean: float, user_bias: np.ndarray, item_bias: np.ndarray, X: np.ndarray, Y: np.ndarray
    ) -> None:
        """Put biases and factors together. The damped biases stay what a prediction falls back on."""
        ones = np.ones
        self.user_factors_ = np.column_stack([X, mean + user_bias, ones(len(X))]).astype(np.float32)
        self.item_factors_ = np.column_stack([Y, ones(len(Y)), item_bias]).astype(np.float32)

    def penalty_of(self, n: int) -> float:
        """The weight of |x|^2 beside the squared errors of n values, for someone new."""
        return float(getattr(self, "regularisation", 0.02)) * n

    def predict(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The product, pair by pair; a user or item without a training value has no factors to speak of."""
        return np.einsum("ij,ij->i", self.user_factors_[users], self.item_factors_[items])

    def held_out_loss(self, held_out: HeldOutCells) -> float | None:
        """The mean squared error."""
        if held_out.values is None:
            return None
        miss = held_out.values - self.predict(held_out.users, held_out.items).astype(np.float64)
        return float(np.mean(miss**2))

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Factor and bias for some items and values: float32 (rank + 2,)."""
        Y, mean = self.item_factors_[item_rows], self.biases_.mean
        rank = Y.shape[1] - 2
        rows = np.column_stack([Y[:, :rank], np.ones(len(Y))])
        penalty = np.full(rank + 1, max(self.penalty_of(len(Y)), 1e-6))
        fitted = ridge_fit(rows, np.asarray(values, np.float64) - mean - Y[:, -1], penalty)
        return np.concatenate([fitted[:rank], [mean + fitted[rank], 1.0]]).astype(np.float32)

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Factor and bias for some users and values: float32 (rank + 2,)."""
        X = self.user_factors_[user_rows]
        rank = X.shape[1] - 2
        rows = np.column_stack([X[:, :rank], np.ones(len(X))])
        penalty = np.full(rank + 1, max(self.penalty_of(len(X)), 1e-6))
        fitted = ridge_fit(rows, np.asarray(values, np.float64) - X[:, rank], penalty)
        return np.concatenate([fitted[:rank], [1.0, fitted[rank]]]).astype(np.float32)

    def state(self) -> Arrays:
        """Factors, fallback biases, scale."""
        return super().state() | self.biases_.arrays() | {"scale": np.array(self.scale_, dtype=np.float64)}

    def layout(self, train: InteractionMatrix) -> Layout:
        """The biases and the scale beside the factors."""
        return {**super().layout(train), **value_layout(train)}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load them."""
        self.biases_ = Biases.from_arrays(arrays)
        self.scale_ = (float(arrays["scale"][0]), float(arrays["scale"][1]))
        return super().load_state(arrays, train)
