"""Association rules between items: who has this goes on to that."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import require_range
from gleaner.core.models.base.likeness import Rule, require_similarity
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.neighbours.item_knn import ItemNeighbours

MEASURES = ("confidence", "lift", "support")


@dataclass(repr=False)
class Association(ItemNeighbours):
    """score(u, i) = sum over j in the history of u, j among the k strongest rules j -> i, of the measure of the rule.

    With n_ij users of both, n_j users of j, N users: support n_ij / N, confidence n_ij / n_j, lift N n_ij / (n_i n_j)
    (Agrawal, Imielinski, Swami 1993; lift: Brin, Motwani, Ullman, Tsur 1997). A rule needs `min_count` users of both,
    and counts times n_ij / (n_ij + shrinkage).
    """

    family: ClassVar[str] = "association"
    summary: ClassVar[str] = "rules of what goes together, by support, confidence or lift"
    source: ClassVar[str] = "Agrawal, Imielinski, Swami 1993; Brin, Motwani, Ullman, Tsur 1997"
    unfit: ClassVar[str] = "rare items: a rule needs users of both"
    effort: ClassVar[str] = "as item_knn"

    retired: ClassVar[dict[str, Any]] = {"asymmetry": 0.5, "weighting": "binary"}

    similarity: Literal["confidence", "lift", "support"] = parameter(
        "lift", "how likeness is measured: confidence, lift or support"
    )
    shrinkage: float = 20.0
    min_count: int = parameter(3, "a rule needs so many users of both")

    def __post_init__(self) -> None:
        super().__post_init__()
        require_similarity(self.similarity, MEASURES)
        require_range("min_count", self.min_count, 1, whole=True)

    @property
    def rule(self) -> Rule:
        """The measure, and how many users it takes."""
        return Rule(self.similarity, self.shrinkage, self.min_count)

    def weigh(self, values: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        """Having an item is enough."""
        return np.ones(len(values), dtype=np.float32)

    def weigh_training(self, train: InteractionMatrix) -> np.ndarray:
        """The same for all cells."""
        return np.ones(train.n_cells, dtype=np.float32)

    def weigh_new(self, values: np.ndarray) -> np.ndarray:
        """The same for a new item."""
        return np.ones_like(values)
