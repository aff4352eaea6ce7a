"""Bayesian personalised ranking."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.kernels import pair_steps as kernels
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.ranked_factors import RefreshedFactors


@dataclass(repr=False)
class Bpr(RefreshedFactors):
    """Minimises, over cells (u, i) and items j that u does not have, drawn at random,

        log(1 + exp(-(x_u.y_i + b_i - x_u.y_j - b_j))) + 0.5 regularisation (|x_u|^2 + |y_i|^2 + |y_j|^2 + b_i^2 +
        b_j^2)

    by gradient steps (Rendle, Freudenthaler, Gantner, Schmidt-Thieme 2009). Steps on many threads keep to blocks of
    users and items, so the model is the same on any number of them; j is drawn from the block of i, which is dealt
    anew in every epoch.
    """

    family: ClassVar[str] = "bpr"
    summary: ClassVar[str] = "factors that put what a user has above what they have not, pair by pair"
    source: ClassVar[str] = "Rendle, Freudenthaler, Gantner, Schmidt-Thieme 2009"
    unfit: ClassVar[str] = "when als does as well: it has a rate to tune"
    effort: ClassVar[str] = "per iteration 3 factors read and written a cell"

    regularisation: float = parameter(0.03, "lambda of the objective")
    learning_rate: float = parameter(0.1, "of the first epoch")
    iterations: int = parameter(40, "passes over the data")

    def pair_loss(self, having: np.ndarray, other: np.ndarray) -> np.ndarray:
        """log(1 + exp(-(s_ui - s_uj)))."""
        return np.logaddexp(0, other - having)

    def epoch(self, train: InteractionMatrix, X: np.ndarray, Y: np.ndarray, rate: np.float32, seed: np.uint64) -> Any:
        """Steps of the pairwise logistic loss."""
        penalty = np.float32(self.regularisation)

        def work(lo: int, hi: int, block_of: np.ndarray, items: np.ndarray, block: int) -> float:
            cells = (train.indptr, train.indices)
            return kernels.pair_epoch(lo, hi, *cells, block_of, items, block, X, Y, rate, penalty, seed)

        return work
