"""Truncated singular value decomposition of mean-centred values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from scipy import sparse
from scipy.sparse.linalg import svds

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import ParameterError, require_range
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.values import Biases
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.values.value_factors import ValueFactors


@dataclass(repr=False)
class SvdValues(ValueFactors):
    """r_ui = mean + b_u + b_i + (U_k S_k V_k')_ui, the best approximation of rank k to the residuals of the biases,
    with 0 for what was not observed: no deviation, not a rating of 0 (Sarwar, Karypis, Konstan, Riedl 2000; Eckart,
    Young 1936). Rank must stay below the full one, which would only give the zeros back. A new user is projected: x
    = q V, q their residuals."""

    family: ClassVar[str] = "svd_values"
    summary: ClassVar[str] = "biases plus the leading singular vectors of what they leave"
    source: ClassVar[str] = "Sarwar, Karypis, Konstan, Riedl 2000; Eckart, Young 1936"
    unfit: ClassVar[str] = "sparse data: unobserved residuals of 0 pull predictions to the biases"
    effort: ClassVar[str] = "about 40 rank cells, on one core"

    rank: int = parameter(8, "length of the factors")
    damping: float = parameter(5.0, "count added to every offset's denominator")
    seed: int = parameter(1, "of every random choice")

    def __post_init__(self) -> None:
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("damping", self.damping, 0)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Lanczos steps, a few for each singular vector."""
        rank = params["rank"]
        return Cost(40.0 * rank * cells + 8.0 * rank**2 * sum(shape), 24.0 * rank * sum(shape), False)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """One decomposition."""
        if self.rank >= min(train.shape):
            raise ParameterError(
                f"rank {self.rank} must be below {min(train.shape)}, the lesser of {train.shape[0]} users and "
                f"{train.shape[1]} items: the full rank only gives the zeros back",
                where="rank",
            )
        self.learn_biases(train)
        factors = Biases.learn(train, self.damping)
        left = train.values - factors.at(train.user_rows, train.indices).astype(np.float64)
        table = sparse.csr_array((left, train.indices, train.indptr), shape=train.shape)
        start = np.random.Generator(np.random.PCG64(self.seed)).standard_normal(min(train.shape))
        if not np.any(left):
            X, Y = (np.zeros((n, self.rank)) for n in train.shape)
        else:
            U, S, V = svds(table, k=self.rank, v0=start)
            order = np.argsort(-S)
            X, Y = (U * S)[:, order], V.T[:, order]
        self.set_factors(factors.mean, factors.user, factors.item, X, Y)
        watch.report_progress(1.0)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The user's damped bias, and their residuals projected on the item vectors."""
        return self._project(self.item_factors_[item_rows], values, -1, [1.0], self.biases_.mean)

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The item's damped bias, and its residuals projected on the user vectors, over their singular values."""
        X = self.user_factors_
        squares = (X[:, : self.rank].astype(np.float64) ** 2).sum(axis=0)
        projected = self._project(X[user_rows], values, -2, [], 0.0)
        scaled = np.divide(projected[: self.rank], squares, out=np.zeros(self.rank), where=squares > 0)
        return np.concatenate([scaled, [1.0, projected[self.rank]]]).astype(np.float32)

    def _project(self, rows: np.ndarray, values: np.ndarray, bias: int, more: list[float], mean: float) -> np.ndarray:
        left = np.asarray(values, np.float64) - rows[:, bias] - mean
        offset = left.sum() / (len(left) + self.damping)
        return np.concatenate([(left - offset) @ rows[:, : self.rank], [mean + offset], more]).astype(np.float32)
