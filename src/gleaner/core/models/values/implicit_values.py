"""Factors of values with an implicit part: what was rated says something, whatever the value."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.kernels import value_steps as kernels
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import random_factors, require_rank
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned, no_array
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.values.sgd_values import SgdValues


@dataclass(repr=False)
class Svdpp(SgdValues):
    """r_ui = mean + b_u + b_i + y_i . (p_u + n_u^-1/2 sum over j in the history of u of z_j), by gradient steps with
    the losses of sgd_values (Koren 2008, eq. 15, known as SVD++). Sequential, because users share the z: threads do not
    matter. x_u = p_u + the sum is what is kept."""

    family: ClassVar[str] = "svdpp"
    summary: ClassVar[str] = "values from factors, biases, and which items were rated at all"
    source: ClassVar[str] = "Koren 2008, eq. 15"
    unfit: ClassVar[str] = "many millions of values: it runs on one core"
    effort: ClassVar[str] = "per iteration about 14 rank cells, on one core"

    rank: int = parameter(16, "length of the factors")
    regularisation: float = parameter(0.05, "lambda of the objective")
    learning_rate: float = parameter(0.01, "of the first epoch")
    decay: float = parameter(0.05, "the rate of epoch t is learning_rate / (1 + decay (t - 1))")
    iterations: int = parameter(20, "passes over the data")
    touched_factors_: np.ndarray = learned(no_array)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """As gradient steps with three passes, on one core."""
        return Cost(14.0 * params["iterations"] * params["rank"] * cells, 12.0 * params["rank"] * sum(shape), False)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Epochs over users in a new order each time."""
        require_rank(self.rank, train)
        self.learn_biases(train)
        P, Y = random_factors(self.seed, train.shape, self.rank, self.init_scale)
        Z = np.zeros_like(Y)
        bu, bi = self.biases_.user.copy(), self.biases_.item.copy()
        mean, penalty = np.float32(self.biases_.mean), np.float32(self.regularisation)
        counts = np.maximum(np.diff(train.indptr), 1)
        marks = sparse.csr_array((np.ones(train.n_cells, np.float32), train.indices, train.indptr), shape=train.shape)
        for iteration in range(1, self.iterations + 1):
            rate = np.float32(self.learning_rate / (1 + self.decay * (iteration - 1)))
            order = np.random.Generator(np.random.PCG64([self.seed, iteration])).permutation(len(P))
            total = kernels.implicit_epoch(
                order, train.indptr, train.indices, train.values, mean, P, Y, Z, bu, bi, rate, penalty
            )
            self.touched_factors_ = Z
            self.set_factors(float(mean), bu, bi, P + (marks @ Z) / np.sqrt(counts)[:, None], Y)
            if not watch.round(self, iteration, self.iterations, {"training": total / train.n_cells}):
                break
        self.warn_of_dead(watch)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The implicit part of what was rated, then the regression of what it leaves."""
        implied = self.touched_factors_[item_rows].sum(axis=0) / np.sqrt(max(len(item_rows), 1))
        left = np.asarray(values) - self.item_factors_[item_rows, : self.rank] @ implied
        folded = super().fold_in(item_rows, left)
        folded[: self.rank] += implied
        return folded

    def state(self) -> Arrays:
        """The z beside the factors."""
        return super().state() | {"touched_factors": self.touched_factors_}

    def layout(self, train: InteractionMatrix) -> Layout:
        """One z an item."""
        return {**super().layout(train), "touched_factors": ArraySpec("float32", (len(train.items), self.rank))}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load them."""
        self.touched_factors_ = arrays["touched_factors"]
        return super().load_state(arrays, train)
