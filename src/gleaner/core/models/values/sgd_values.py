"""Biased matrix factorisation of values by stochastic gradient descent."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.kernels import value_steps as kernels
from gleaner.core.models.base.blocks import run_epoch
from gleaner.core.models.base.factor_model import random_factors, require_rank
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.values.value_factors import ValueFactors


@dataclass(repr=False)
class SgdValues(ValueFactors):
    """Minimises sum over observed of 0.5 e^2 + 0.5 regularisation (|x_u|^2 + |y_i|^2 + b_u^2 + b_i^2), e = r - mean
    - b_u - b_i - x_u.y_i, a cell at a time (Funk 2006; Koren, Bell, Volinsky 2009). The rate of epoch t is
    learning_rate / (1 + decay (t - 1))."""

    family: ClassVar[str] = "sgd_values"
    summary: ClassVar[str] = "values from factors and biases, by gradient steps"
    source: ClassVar[str] = "Funk 2006; Koren, Bell, Volinsky 2009"
    unfit: ClassVar[str] = "when als_values will do: it has a rate to tune"
    effort: ClassVar[str] = "per iteration about 8 rank cells"

    rank: int = parameter(16, "length of the factors")
    regularisation: float = parameter(0.05, "lambda of the objective")
    learning_rate: float = parameter(0.01, "of the first epoch")
    decay: float = parameter(0.05, "the rate of epoch t is learning_rate / (1 + decay (t - 1))")
    iterations: int = parameter(30, "passes over the data")
    init_scale: float = parameter(0.1, "spread of the first factors, over the root of the rank")
    seed: int = parameter(1, "of every random choice")

    def __post_init__(self) -> None:
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("regularisation", self.regularisation, 0)
        require_range("learning_rate", self.learning_rate, 1e-6, 1)
        require_range("decay", self.decay, 0, 10)
        require_range("iterations", self.iterations, 1, 1000, whole=True)
        require_range("init_scale", self.init_scale, 1e-6, 10)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Epochs over all cells."""
        require_rank(self.rank, train)
        self.learn_biases(train)
        X, Y = random_factors(self.seed, train.shape, self.rank, self.init_scale)
        bu, bi = self.biases_.user.copy(), self.biases_.item.copy()
        mean, penalty = np.float32(self.biases_.mean), np.float32(self.regularisation)
        for iteration in range(1, self.iterations + 1):
            rate = np.float32(self.learning_rate / (1 + self.decay * (iteration - 1)))

            def work(
                lo: int, hi: int, block_of: np.ndarray, _: np.ndarray, block: int, rate: np.float32 = rate
            ) -> float:
                cells = (train.indptr, train.indices, train.values)
                return kernels.value_epoch(lo, hi, *cells, block_of, block, mean, X, Y, bu, bi, rate, penalty)

            total = run_epoch(train, self.seed, iteration, self.iterations, work, watch)
            self.set_factors(float(mean), bu, bi, X, Y)
            if not watch.round(self, iteration, self.iterations, {"training": total / train.n_cells}):
                break
        self.warn_of_dead(watch)
