"""Values from biases alone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.values import Biases
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.values.value_factors import ValueFactors


@dataclass(repr=False)
class BiasesOnly(ValueFactors):
    """r_ui = mean + b_u + b_i, the offsets damped: b_i = sum (r - mean) / (n_i + damping), then
    b_u = sum (r - mean - b_i) / (n_u + damping) (Koren 2008, section 2.1). The baseline of every value predictor."""

    family: ClassVar[str] = "biases"
    summary: ClassVar[str] = "overall mean, how strict the user is, how liked the item is"
    source: ClassVar[str] = "Koren 2008, section 2.1"
    unfit: ClassVar[str] = "ranking: its list is the same for everyone"
    effort: ClassVar[str] = "two passes over the cells"
    personal: ClassVar[bool] = False

    damping: float = parameter(5.0, "count added to every offset's denominator")

    def __post_init__(self) -> None:
        require_range("damping", self.damping, 0)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Two passes."""
        self.learn_biases(train)
        biases = Biases.learn(train, self.damping)
        self.set_factors(biases.mean, biases.user, biases.item, *(np.empty((n, 0), np.float32) for n in train.shape))

    def penalty_of(self, n: int) -> float:
        """The damping."""
        return self.damping
