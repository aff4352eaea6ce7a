"""Models that were fitted before, lent to those that have them as members, so that nothing is fitted twice."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, TypeVar, cast

from gleaner.core.data.interactions import InteractionMatrix

if TYPE_CHECKING:
    from gleaner.core.models.base.protocol import Model

T = TypeVar("T")
Key = tuple[str, str]
"""A family and its parameters."""


def key_of(model: Model) -> Key:
    """What two models must have in common to be the same, once fitted on the same data."""
    return model.family, json.dumps(model.params(), sort_keys=True)


@dataclass(eq=False)
class FitCache:
    """Fitted models by what they are and what they were fitted on. wanted: only these are kept."""

    wanted: set[Key] = field(default_factory=set)
    _kept: list[tuple[Key, InteractionMatrix, Model]] = field(default_factory=list)
    _last: tuple[str, InteractionMatrix, Any] | None = None

    @classmethod
    def of_members(cls, models: Iterable[Model]) -> FitCache:
        """One that keeps what these models have as members."""
        return cls({key_of(member) for model in models for member in model.members_of()})

    def find(self, model: Model, train: InteractionMatrix) -> Model | None:
        """The same model, fitted on this matrix; None where none was kept."""
        key = key_of(model)
        return next((kept for has, on, kept in self._kept if has == key and on is train), None)

    def last(self, key: str, train: InteractionMatrix, make: Callable[[], T]) -> T:
        """What was made last of this matrix under a key, made now if that was something else: attempts of a search
        often differ in what comes after it."""
        if self._last is None or self._last[0] != key or self._last[1] is not train:
            self._last = None
            self._last = key, train, make()
        return cast(T, self._last[2])

    def keep(self, model: Model, train: InteractionMatrix) -> None:
        """Keep a fitted model, where somebody wants it."""
        if key_of(model) in self.wanted and self.find(model, train) is None:
            self._kept.append((key_of(model), train, model))
