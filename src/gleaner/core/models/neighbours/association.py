"""Association rules between items: who has this goes on to that."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.side import Features
from gleaner.core.errors import ParameterError, require_range
from gleaner.core.models.base.likeness import Rule, require_similarity
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.base.weighting import TextWeighting
from gleaner.core.models.neighbours.item_knn import ItemKnn

MEASURES = ("confidence", "lift", "support")


@dataclass(repr=False)
class Association(ItemKnn):
    """score(u, i) = sum over j in the history of u, j among the k strongest rules j -> i, of the measure of the rule.

    With n_ij users of both, n_j users of j, N users: support n_ij / N, confidence n_ij / n_j, lift N n_ij / (n_i n_j)
    (Agrawal, Imielinski, Swami 1993; lift: Brin, Motwani, Ullman, Tsur 1997). A rule needs `min_count` users of both,
    and counts times n_ij / (n_ij + shrinkage).
    """

    family: ClassVar[str] = "association"
    summary: ClassVar[str] = "rules of what goes together, by support, confidence or lift"
    source: ClassVar[str] = "Agrawal, Imielinski, Swami 1993; Brin, Motwani, Ullman, Tsur 1997"
    unfit: ClassVar[str] = "rare items: a rule needs users of both"

    neighbours: int = 100
    similarity: Literal["confidence", "lift", "support"] = "lift"  # type: ignore[assignment]
    shrinkage: float = 20.0
    min_count: int = 3
    asymmetry: float = 0.5
    weighting: TextWeighting = "binary"

    def __post_init__(self) -> None:
        require_range("neighbours", self.neighbours, 1, 10_000, whole=True)
        require_similarity(self.similarity, MEASURES)
        require_range("shrinkage", self.shrinkage, 0)
        require_range("min_count", self.min_count, 1, whole=True)
        for name, only in (("asymmetry", 0.5), ("weighting", "binary")):
            if getattr(self, name) != only:
                raise ParameterError(f"rules count users, so {name} can only be {only!r}", where=name)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Find the strongest rules to every item."""
        super().learn(train, features, watch)

    @property
    def _rule(self) -> Rule:
        return Rule(self.similarity, self.shrinkage, self.min_count)

    def weigh(self, values: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        """Having an item is enough."""
        return np.ones(len(values), dtype=np.float32)

    def weigh_training(self, train: InteractionMatrix) -> np.ndarray:
        """The same for all cells."""
        return np.ones(train.n_cells, dtype=np.float32)
