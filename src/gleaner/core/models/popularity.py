"""Popularity: the same list for everyone, the baseline every comparison carries."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Self

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import ParameterError
from gleaner.core.models.protocol import Arrays, Model, Watch, require_cells


@dataclass
class Popularity(Model):
    """score(i) = number of users of item i (`measure: users`), or the sum of their values (`measure: value`)."""

    family: ClassVar[str] = "popular"
    feedback: ClassVar = "either"
    summary: ClassVar[str] = "the items most users have, the same for everyone"
    personal: ClassVar[bool] = False

    measure: Literal["users", "value"] = "users"
    scores_: np.ndarray = field(init=False, repr=False, default_factory=lambda: np.empty(0, np.float32))

    def __post_init__(self) -> None:
        if self.measure not in ("users", "value"):
            raise ParameterError(f"measure must be users or value, not {self.measure!r}", where="measure")

    def fit(self, train: InteractionMatrix, *, features: Any = None, watch: Watch | None = None) -> Self:
        """Count. Cost: one pass over the cells."""
        require_cells(train, self.family)
        weights = train.values.astype(np.float64) if self.measure == "value" else None
        counts = np.bincount(train.indices, weights=weights, minlength=len(train.items))
        self.scores_ = counts.astype(np.float32)
        return self

    def effort(self) -> float:
        """Next to nothing."""
        return 0.05

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """One row of counts, repeated."""
        return np.tile(self.scores_, (len(user_rows), 1))

    def state(self) -> Arrays:
        """The counts."""
        return {"scores": self.scores_}

    def restore(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take the counts back."""
        self.scores_ = arrays["scores"]
        return self
