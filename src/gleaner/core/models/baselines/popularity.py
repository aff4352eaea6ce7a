"""Popularity: the same list for everyone, the baseline every comparison carries."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import InputError, ParameterError, require_range
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.watching import Watch


@dataclass(repr=False)
class SameForAll(Model):
    """One score an item, the same for everyone."""

    personal: ClassVar[bool] = False
    scores_: np.ndarray = learned(lambda: np.empty(0, np.float32))
    train_: InteractionMatrix | None = learned(lambda: None)

    def set_scores(self, scores: np.ndarray, train: InteractionMatrix) -> None:
        """Hold the scores."""
        self.scores_, self.train_ = scores.astype(np.float32), train

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """One row, repeated."""
        return np.tile(self.scores_, (len(user_rows), 1))

    def item_scores(self, item_rows: np.ndarray) -> np.ndarray:
        """The item's score for everyone."""
        return np.repeat(self.scores_[item_rows][:, None], len(self.trained_on.users), axis=1)

    def state(self) -> Arrays:
        """The scores."""
        return {"scores": self.scores_}

    def layout(self, train: InteractionMatrix) -> Layout:
        """One score an item."""
        return {"scores": ArraySpec("float32", (len(train.items),))}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the scores."""
        self.set_scores(arrays["scores"], train)
        return self


def days_of(train: InteractionMatrix, family: str) -> tuple[np.ndarray, float]:
    """Days of the cells, and the last one. Raises InputError where the data has no times."""
    if train.days is None or not np.isfinite(train.days).any():
        raise InputError(f"{family} looks at times, and this dataset has none", where="time")
    return train.days, float(np.nanmax(train.days))


@dataclass(repr=False)
class Popular(SameForAll):
    """score(i) = number of users of item i (`measure: users`), or the sum of their values (`measure: value`).

    kind: count only users with a row of this kind. window_days: only cells whose last row is so close to the last of
    all. half_life_days: a cell counts half as much for every so many days before the last row of all.
    """

    family: ClassVar[str] = "popular"
    feedback: ClassVar = "either"
    summary: ClassVar[str] = "the items most users have, the same for everyone"
    unfit: ClassVar[str] = "lists should be personal"
    effort: ClassVar[str] = "one pass over the cells"

    measure: Literal["users", "value"] = parameter("users", "count `users` of an item, or sum their `value`")
    kind: str | None = parameter(None, "count only users with a row of this kind")
    window_days: float | None = parameter(None, "count only cells whose last row is so close to the end of training")
    half_life_days: float | None = parameter(
        None, "a cell counts half as much for every so many days before the end of training"
    )

    def __post_init__(self) -> None:
        if self.measure not in ("users", "value"):
            raise ParameterError(f"measure must be users or value, not {self.measure!r}", where="measure")
        if not isinstance(self.kind, str | None):
            raise ParameterError(f"kind must be the name of a kind, not {self.kind!r}", where="kind")
        for name in ("window_days", "half_life_days"):
            if getattr(self, name) is not None:
                require_range(name, getattr(self, name), 1e-6)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Count."""
        weights = train.values.astype(np.float64) if self.measure == "value" else np.ones(train.n_cells)
        if self.kind is not None:
            weights = weights * self._of_kind(train, self.kind)
        if self.window_days is not None:
            days, last = days_of(train, self.family)
            weights = weights * (days > last - self.window_days)
        if self.half_life_days is not None:
            days, last = days_of(train, self.family)
            weights = weights * np.where(
                np.isfinite(days), 0.5 ** ((last - np.nan_to_num(days)) / self.half_life_days), 0
            )
        self.set_scores(np.bincount(train.indices, weights=weights, minlength=len(train.items)), train)

    @staticmethod
    def _of_kind(train: InteractionMatrix, kind: str) -> np.ndarray:
        if train.kinds is None or kind not in train.kind_names:
            has = ", ".join(train.kind_names) or "no kinds"
            raise InputError(f"popular: there is no kind {kind!r} in the training part; it has {has}", where="kind")
        return (train.kinds >> np.uint64(train.kind_names.index(kind))) & np.uint64(1)
