"""Random lists: what chance reaches."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.capabilities import FoldsIn
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.watching import Watch


@dataclass(repr=False)
class Random(Model, FoldsIn):
    """score(u, i) is uniform in [0, 1), drawn from (seed, user row), so that a user gets the same list every time."""

    family: ClassVar[str] = "random"
    feedback: ClassVar = "either"
    summary: ClassVar[str] = "a random order, a different one for each user"
    unfit: ClassVar[str] = "anything but measuring what chance reaches"
    effort: ClassVar[str] = "nothing"

    seed: int = parameter(1, "of every random choice")
    train_: InteractionMatrix | None = learned(lambda: None)

    def __post_init__(self) -> None:
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Nothing to learn."""
        self.train_ = train

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """A generator of its own for each user."""
        n_items = len(self.trained_on.items)
        drawn = [np.random.Generator(np.random.PCG64([self.seed, int(row)])) for row in user_rows]
        return np.stack([each.random(n_items, dtype=np.float32) for each in drawn])

    def state(self) -> Arrays:
        """Nothing but the seed, which is a parameter."""
        return {"seed": np.array([self.seed])}

    def layout(self, train: InteractionMatrix) -> Layout:
        """The seed."""
        return {"seed": ArraySpec("int64", (1,))}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Hold the matrix."""
        self.train_ = train
        return self

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The items themselves, as a seed."""
        return np.asarray(item_rows, dtype=np.float64)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """An order drawn from the items."""
        seed = [self.seed, *(int(row) for row in representation)]
        return np.random.Generator(np.random.PCG64(seed)).random(len(self.trained_on.items), dtype=np.float32)
