"""Mean values, plain and Bayesian."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.base.values import Biases, ValueModel, value_layout
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.baselines.popularity import SameForAll


@dataclass(repr=False)
class MeanValue(SameForAll, ValueModel):
    """score(i) = (sum of values of i + prior m) / (n_i + prior), m the overall mean: a mean that `prior` more users
    of the overall opinion have joined. prior 0 is the plain mean, with which one happy user leads every list."""

    family: ClassVar[str] = "mean_value"
    summary: ClassVar[str] = "the best liked items, few values pulled to the overall mean"
    source: ClassVar[str] = "posterior mean with a normal prior"
    unfit: ClassVar[str] = "telling users apart"
    effort: ClassVar[str] = "one pass over the cells"

    prior: float = parameter(10.0, "values of the overall mean that are added to each item")

    def __post_init__(self) -> None:
        require_range("prior", self.prior, 0)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Sum and count."""
        self.learn_biases(train)
        n_items = len(train.items)
        sums = np.bincount(train.indices, train.values.astype(np.float64), minlength=n_items)
        counts = np.bincount(train.indices, minlength=n_items) + self.prior
        mean = self.biases_.mean
        self.set_scores(
            np.divide(sums + self.prior * mean, counts, out=np.full(n_items, mean), where=counts > 0), train
        )

    def predict(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The item's mean, whoever asks."""
        return self.scores_[items]

    def state(self) -> Arrays:
        """Means, biases, scale."""
        return super().state() | self.biases_.arrays() | {"scale": np.array(self.scale_, dtype=np.float64)}

    def layout(self, train: InteractionMatrix) -> Layout:
        """The biases and the scale beside the means."""
        return {**super().layout(train), **value_layout(train)}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load them."""
        self.biases_ = Biases.from_arrays(arrays)
        self.scale_ = (float(arrays["scale"][0]), float(arrays["scale"][1]))
        return super().load_state(arrays, train)
