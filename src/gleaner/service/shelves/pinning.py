"""Which model each name in a shelf's file means, and what publishing the file would change of what is served."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from gleaner.core.errors import ConflictError, UnknownNameError
from gleaner.store import models, shelves
from gleaner.store.records.models import ModelRecord
from gleaner.store.records.shelves import ShelfVersionRecord
from gleaner.wire.names import plain_name
from gleaner.wire.shelves.changes import ModelChange
from gleaner.wire.shelves.publishing import PublishRequest
from gleaner.wire.shelves.shelf import ShelfSpec


@dataclass(frozen=True)
class Pinning:
    """Models that names stand for. served: the version of the shelf that is served now, or None.

    A name with a number means itself. One without keeps the version that is served, unless models are to be updated;
    otherwise it means the newest model of the name that was fitted on all rows, or else the newest.
    """

    connection: Connection
    served: ShelfVersionRecord | None
    update_models: bool = False

    @classmethod
    def of(cls, connection: Connection, shelf: str, *, update_models: bool = False) -> Pinning:
        """Look up what is served under a name."""
        return cls(connection, served_version(connection, shelf), update_models)

    def model(self, name: str) -> str:
        """Return the model that a name stands for. Raises UnknownNameError."""
        if "@" in name:
            return models.get(self.connection, name).name
        served = [] if self.served is None else [each for each in self.served.spec.models() if plain_name(each) == name]
        if served and not self.update_models:
            return served[0]
        return models.default_of(self.connection, name)

    def pinned(self, spec: ShelfSpec) -> ShelfSpec:
        """Return the spec with every model and shelf named with its number. Raises UnknownNameError."""
        pinned = with_models(spec, {name: self.model(name) for name in spec.models()})
        for source in pinned.candidates:
            if source.shelf is not None:
                source.shelf = shelves.get(self.connection, source.shelf).name
        return pinned

    def changes(self, pinned: ShelfSpec) -> list[ModelChange]:
        """Return how the models of a pinned spec differ from those that are served; nothing for a new shelf."""
        if self.served is None:
            return []
        before, after = _roles(self.served.spec), _roles(pinned)
        gone = [name for name in before if name not in after]
        changes = []
        for name in (name for name in after if name not in before):
            old = _predecessor(name, after[name], {each: before[each] for each in gone})
            if old is not None:
                gone.remove(old)
            changes.append(self._change(after[name], old, name))
        return changes + [self._change(before[name], name, None) for name in gone]

    def _change(self, role: str, before: str | None, after: str | None) -> ModelChange:
        old, new = (None if name is None else models.get(self.connection, name) for name in (before, after))
        metric = next((each.decided_by for each in map(self._judged, (new, old)) if each and each.decided_by), None)
        return ModelChange(
            role=role,
            before=before,
            after=after,
            metric=metric,
            before_figure=self._figure(old, metric),
            after_figure=self._figure(new, metric),
            before_trained_on=None if old is None else old.trained_on,
            after_trained_on=None if new is None else new.trained_on,
        )

    def _judged(self, model: ModelRecord | None) -> ModelRecord | None:
        """Return the contest's model that a model has its figures from: itself, or the one it was fitted like."""
        if model is None or model.figures or model.story.parent is None:
            return model
        try:
            return models.get(self.connection, model.story.parent)
        except UnknownNameError:
            return model

    def _figure(self, model: ModelRecord | None, metric: str | None) -> float | None:
        judged = self._judged(model)
        return None if judged is None or metric is None else judged.figures.get(metric)


def with_models(spec: ShelfSpec, names: Mapping[str, str]) -> ShelfSpec:
    """Return a copy of a spec with other names of models."""
    copy = spec.model_copy(deep=True)
    named: list[Any] = [*copy.candidates, *copy.fallback, copy.score]
    for source in copy.candidates:
        named += [source.like, source.together]
    for each in named:
        if each is not None and each.model is not None:
            each.model = names.get(each.model, each.model)
    if copy.score is not None:
        copy.score.blend = {names.get(name, name): weight for name, weight in copy.score.blend.items()}
    return copy


def served_version(connection: Connection, shelf: str) -> ShelfVersionRecord | None:
    """Return the version of a shelf that is served, or None if there is no such shelf."""
    try:
        return shelves.get(connection, shelf)
    except UnknownNameError:
        return None


def require_expected(served: ShelfVersionRecord | None, shelf: str, request: PublishRequest) -> None:
    """Raise ConflictError if another version is served than the one that the file is based on."""
    number = 0 if served is None else served.number
    if request.based_on in (None, number):
        return
    now = f"{shelf}@{number} is served" if number else f"there is no shelf {shelf!r}"
    was = f"{shelf}@{request.based_on}" if request.based_on else "no version"
    text = f"{now}, and this file is based on {was}; look at what changed, then publish on top of version {number}"
    raise ConflictError(text, where="based_on")


def require_confirmed(changes: list[ModelChange], spec: ShelfSpec, pinning: Pinning) -> None:
    """Raise ConflictError if publishing a spec would change models and nobody confirmed it.

    The message lists what would change once it is confirmed: names without a number then take other models too.
    """
    if changes and not pinning.update_models:
        updating = replace(pinning, update_models=True)
        listed = "; ".join(change.text for change in updating.changes(updating.pinned(spec)))
        raise ConflictError(
            f"publishing would change models: {listed}; confirm with update_models", where="update_models"
        )


def _roles(spec: ShelfSpec) -> dict[str, str]:
    """Return the models of a spec, each with the first role it has."""
    roles = dict[str, str]()
    for source in spec.candidates:
        for part in (source, source.like, source.together):
            if part is not None and part.model is not None:
                roles.setdefault(part.model, "candidates")
    if spec.score is not None:
        for name in [spec.score.model, *spec.score.blend]:
            if name is not None:
                roles.setdefault(name, "score")
    for step in spec.fallback:
        if step.model is not None:
            roles.setdefault(step.model, "fallback")
    return roles


def _predecessor(name: str, role: str, gone: Mapping[str, str]) -> str | None:
    """Return which of the models that are gone a new one replaces: of the same name, else the first of its role."""
    same = [each for each in gone if plain_name(each) == plain_name(name)]
    return next(iter(same + [each for each, old_role in gone.items() if old_role == role]), None)
