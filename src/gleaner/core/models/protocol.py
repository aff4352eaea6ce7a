"""What every model keeps."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, fields
from typing import Any, ClassVar, Literal, Protocol, Self

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import InputError, ParameterError

Arrays = dict[str, np.ndarray]


class Watch(Protocol):
    """Told about training; answers False to stop it."""

    def __call__(self, done: float, iteration: int, losses: dict[str, float]) -> bool:
        """done: share of the work, 0 to 1. losses: empty between iterations."""
        ...


@dataclass(frozen=True, eq=False)
class Factors:
    """Scores as one matrix product: users float32 (n_users, rank) times items float32 (n_items, rank) transposed."""

    users: np.ndarray
    items: np.ndarray


@dataclass
class Model(ABC):
    """Base of all models. Fields of a subclass are its parameters; learned values end in an underscore.

    Class facts say what a model takes and can do; callers read them and never test for a family by name.
    """

    family: ClassVar[str]
    feedback: ClassVar[Literal["implicit", "explicit", "either"]]
    summary: ClassVar[str]
    predicts_values: ClassVar[bool] = False
    needs_features: ClassVar[bool] = False
    folds_in: ClassVar[bool] = False
    personal: ClassVar[bool] = True

    @abstractmethod
    def fit(self, train: InteractionMatrix, *, features: Any = None, watch: Watch | None = None) -> Self:
        """Learn from observed cells. Raises InputError where the data does not fit, CancelledError on a stop."""

    @abstractmethod
    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Scores of every item for some users: float32 (len(user_rows), n_items). Higher is better."""

    def effort(self) -> float:
        """Work of a fit relative to other models on the same data, roughly: what progress bars are cut by."""
        return 1.0

    def factors(self) -> Factors | None:
        """The factor form, where scores are a plain product that ranking can use directly."""
        return None

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """A representation of someone not seen in training, from their items, for `scores_of`."""
        raise InputError(f"{self.family} cannot serve someone it never saw")

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Scores of every item for a folded-in representation: float32 (n_items,)."""
        raise InputError(f"{self.family} cannot serve someone it never saw")

    @abstractmethod
    def state(self) -> Arrays:
        """Learned values as plain arrays. With `params()` and the training matrix they make the model again."""

    @abstractmethod
    def restore(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take learned values back from `state()`."""

    def params(self) -> dict[str, Any]:
        """The parameters, as JSON values."""
        return {field.name: getattr(self, field.name) for field in fields(self) if field.init}

    @classmethod
    def from_params(cls, given: dict[str, Any]) -> Self:
        """Build from named parameters. Raises ParameterError naming one that does not exist or does not fit."""
        known = [field.name for field in fields(cls) if field.init]
        for name in given:
            if name not in known:
                allowed = ", ".join(known) or "none"
                raise ParameterError(f"{cls.family} has no parameter {name!r}; it has: {allowed}", where=name)
        return cls(**given)


def require_cells(train: InteractionMatrix, family: str) -> None:
    """Raise InputError when there is nothing to learn from."""
    if train.n_cells == 0:
        raise InputError(f"{family} has nothing to learn from: the training part has no interactions")
