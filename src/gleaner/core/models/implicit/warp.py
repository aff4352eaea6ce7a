"""Weighted approximate-rank pairwise loss."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import require_range
from gleaner.core.kernels import pair_steps as kernels
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.ranked_factors import RefreshedFactors


@dataclass(repr=False)
class Warp(RefreshedFactors):
    """For each cell (u, i), items j that u does not have are drawn until one breaks the margin, x_u.y_j + b_j >
    x_u.y_i + b_i - margin, at most `trials` times; then a step on

        log(1 + floor((n_items - 1) / draws)) (margin - x_u.y_i - b_i + x_u.y_j + b_j)

    the weight being an estimate of what i's rank costs: few draws, bad rank (Weston, Bengio, Usunier 2011). Blocks
    as in bpr. Someone new is folded in by the pairwise logistic loss, the hinge's smooth sister.
    """

    family: ClassVar[str] = "warp"
    summary: ClassVar[str] = "factors that work hardest on the top of the list"
    source: ClassVar[str] = "Weston, Bengio, Usunier 2011"
    unfit: ClassVar[str] = "noisy single interactions: it chases each of them to the top"
    effort: ClassVar[str] = "as bpr, and a product for every draw"

    learning_rate: float = parameter(0.01, "of the first epoch")
    iterations: int = parameter(30, "passes over the data")
    margin: float = parameter(1.0, "by how much what a user has should lead")
    trials: int = parameter(20, "draws at most")

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("margin", self.margin, 0, 100)
        require_range("trials", self.trials, 1, 1000, whole=True)

    def pair_loss(self, having: np.ndarray, other: np.ndarray) -> np.ndarray:
        """What s_ui lacks to stand a margin above s_uj, the rank not weighed: it is not known without all scores."""
        return np.maximum(0, self.margin - having + other)

    def epoch(self, train: InteractionMatrix, X: np.ndarray, Y: np.ndarray, rate: np.float32, seed: np.uint64) -> Any:
        """Steps of the weighted hinge."""
        penalty, margin = np.float32(self.regularisation), np.float32(self.margin)
        n_items = int(np.count_nonzero(train.item_counts))

        def work(lo: int, hi: int, block_of: np.ndarray, items: np.ndarray, block: int) -> float:
            more = (X, Y, rate, penalty, seed, margin, self.trials, n_items)
            return kernels.warp_epoch(lo, hi, train.indptr, train.indices, block_of, items, block, *more)

        return work
