"""Logistic matrix factorisation."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import InputError, require_range
from gleaner.core.kernels import pair_steps as kernels
from gleaner.core.models.base.capabilities import HasLogOdds
from gleaner.core.models.base.factor_model import logistic_fit, pair_products, random_factors
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.ranked_factors import DRAWN, RefreshedFactors
from gleaner.core.models.base.weighting import WEIGHTING_MEANS, Weighting, require_weighting, weigh


@dataclass(repr=False)
class Logistic(RefreshedFactors, HasLogOdds):
    """The chance that u takes i is 1 / (1 + exp(-s_ui)), s_ui = x_u.y_i + b_u + b_i. Minimises

        sum over observed of w_ui log(1 + exp(-s_ui)) + sum over unobserved, sampled, of log(1 + exp(s_uj))

    plus 0.5 regularisation times the squares, by gradient steps with `negatives` draws a cell (Johnson 2014). w_ui
    is the cell's weight over the mean weight. Blocks as in bpr.
    """

    family: ClassVar[str] = "logistic"
    summary: ClassVar[str] = "the chance that a user takes an item, as a logistic regression on both"
    source: ClassVar[str] = "Johnson 2014"
    unfit: ClassVar[str] = "when pairs matter more than chances"
    effort: ClassVar[str] = "as bpr, times 1 + negatives"
    bias_columns: ClassVar[int] = 2

    negatives: int = parameter(3, "draws a cell")
    weighting: Weighting = parameter("log", WEIGHTING_MEANS)

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("negatives", self.negatives, 1, 1000, whole=True)
        require_weighting(self.weighting)

    def initial_factors(self, train: InteractionMatrix) -> tuple[np.ndarray, np.ndarray]:
        """Factors with two bias columns: (x, b_u, 1) and (y, 1, b_i)."""
        X, Y = random_factors(self.seed, train.shape, self.rank, self.init_scale)
        zeros, ones = (lambda n: np.zeros(n, np.float32)), (lambda n: np.ones(n, np.float32))
        return (
            np.column_stack([X, zeros(len(X)), ones(len(X))]),
            np.column_stack([Y, ones(len(Y)), zeros(len(Y))]),
        )

    def pair_loss(self, having: np.ndarray, other: np.ndarray) -> np.ndarray:
        """log(1 + exp(-s_ui)) + log(1 + exp(s_uj))."""
        return np.logaddexp(0, -having) + np.logaddexp(0, other)

    def log_odds(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
        """x_u . y_i + b_u + b_i."""
        return pair_products(self.user_factors_, self.item_factors_, users, items)

    def epoch(self, train: InteractionMatrix, X: np.ndarray, Y: np.ndarray, rate: np.float32, seed: np.uint64) -> Any:
        """Steps of the logistic loss."""
        penalty, weights = np.float32(self.regularisation), self._weights(train)

        def work(lo: int, hi: int, block_of: np.ndarray, items: np.ndarray, block: int) -> float:
            more = (X, Y, rate, penalty, seed, self.negatives)
            return kernels.logistic_epoch(lo, hi, train.indptr, train.indices, weights, block_of, items, block, *more)

        return work

    def _weights(self, train: InteractionMatrix) -> np.ndarray:
        weights = weigh(train.values, self.weighting, self.family)
        mean = float(weights.mean(dtype=np.float64))
        if mean == 0:
            raise InputError("logistic takes values as weights, and all of them are zero", where="value")
        return weights / np.float32(mean)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The factor and bias of someone with these items, all else unobserved in proportion to `negatives`."""
        fitted = self._one(self.item_factors_, item_rows, self.rank + 1)
        return np.append(fitted, 1).astype(np.float32)

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The factor and bias of an item of these users."""
        fitted = self._one(self.user_factors_, user_rows, self.rank)
        return np.concatenate([fitted[: self.rank], [1, fitted[self.rank]]]).astype(np.float32)

    def _one(self, other: np.ndarray, positives: np.ndarray, fixed: int) -> np.ndarray:
        """Logistic regression on the other side's factors; column `fixed` of them is an offset, the rest are fitted."""
        rest = np.setdiff1d(np.arange(len(other)), positives)
        drawn = self._random().choice(rest, len(positives) * DRAWN) if len(rest) else rest
        rows = np.concatenate([positives, drawn])
        signs = np.concatenate([np.ones(len(positives)), -np.ones(len(drawn))])
        weights = np.concatenate([np.ones(len(positives)), np.full(len(drawn), self.negatives / DRAWN)])
        kept = [column for column in range(self.rank + 2) if column != fixed]
        offsets = other[rows, fixed].astype(np.float64)
        n = len(positives) * (1 + self.negatives)
        return logistic_fit(
            other[rows][:, kept], offsets, signs, weights, np.full(self.rank + 1, max(self.regularisation * n, 1e-3))
        )
