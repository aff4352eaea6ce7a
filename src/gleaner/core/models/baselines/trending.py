"""What is asked for more than usual."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.baselines.popularity import SameForAll, days_of


@dataclass(repr=False)
class Trending(SameForAll):
    """score(i) = (r_i - e_i) / sqrt(e_i + 1): users of item i in the last `recent_days` against how many its share
    of the
    `usual_days` before leads one to expect, e_i = u_i / u * r, in standard deviations of a Poisson count, plus one
    so that a newcomer with a single user does not lead. r and u are the totals over items."""

    family: ClassVar[str] = "trending"
    feedback: ClassVar = "either"
    summary: ClassVar[str] = "items with more users lately than their usual share"
    source: ClassVar[str] = "standardised Poisson residuals"
    unfit: ClassVar[str] = "as the only list: it forgets what is good all year"
    effort: ClassVar[str] = "one pass over the cells"

    recent_days: float = parameter(28.0, "what counts as lately")
    usual_days: float = parameter(365.0, "the time before, which sets what is usual")

    def __post_init__(self) -> None:
        require_range("recent_days", self.recent_days, 1e-6)
        require_range("usual_days", self.usual_days, 1e-6)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Count twice."""
        days, last = days_of(train, self.family)
        age = last - days
        recent = np.bincount(train.indices[age < self.recent_days], minlength=len(train.items))
        before = (age >= self.recent_days) & (age < self.recent_days + self.usual_days)
        usual = np.bincount(train.indices[before], minlength=len(train.items))
        expected = usual / max(usual.sum(), 1) * recent.sum()
        self.set_scores((recent - expected) / np.sqrt(expected + 1), train)
