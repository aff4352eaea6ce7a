"""Models that are part of another: a blend's, a second stage's."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import ParameterError, UnknownNameError, near
from gleaner.core.models.base.capabilities import factors_of, folding, taking_features
from gleaner.core.models.base.context import TakesContext, takes_context
from gleaner.core.models.base.protocol import Arrays, Model
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.watching import Progress, Watch

MADE_OF_OTHERS = ("blend", "blend_ranks", "second_stage")
"""Families that have members, and are none themselves."""


def build_member(member: Any) -> Model:
    """A member from a family's name, or one name with parameters. Raises ParameterError."""
    if isinstance(member, str):
        member = {member: {}}
    if not isinstance(member, dict) or len(member) != 1:
        raise ParameterError(f"a member is a family or {{family: parameters}}, not {member!r}", where="members")
    [(family, params)] = member.items()
    if family in MADE_OF_OTHERS:
        raise ParameterError(f"{family} has members, and cannot be one", where="members")
    try:
        return build(family, params or {})
    except (UnknownNameError, ParameterError) as error:
        raise ParameterError(f"member {family}: {error.message}", where="members") from None


def as_chosen(fitted: Model) -> Model:
    """Build a model of the same parameters, not fitted, with those that the fit chose."""
    return build(fitted.family, fitted.params() | fitted.chosen())


def family_of(member: Any) -> str:
    """The family of a member as it is written."""
    return member if isinstance(member, str) else next(iter(member))


def without_member(family: str, params: dict[str, Any], name: str) -> dict[str, Any]:
    """The parameters of a model of several members without those of one family. Raises ParameterError where there is
    none of it, and where there would be none left."""
    whole = build(family, params).params()
    members, weights = whole.get("members", []), whole.get("weights")
    kept = [place for place, member in enumerate(members) if family_of(member) != name]
    if not members:
        text = f"without 'members.{name}': {family} has no members; those that do: {', '.join(MADE_OF_OTHERS)}"
        raise ParameterError(text, where="without")
    if len(kept) == len(members):
        text = f"without 'members.{name}': {family} has no such member{near(name, map(family_of, members))}"
        raise ParameterError(text, where="without")
    if not kept or (family != "second_stage" and len(kept) < 2):
        raise ParameterError(f"without 'members.{name}': too few members would be left", where="without")
    left = params | {"members": [members[place] for place in kept]}
    return left if weights is None else left | {"weights": [weights[place] for place in kept]}


def joined_encoder(models: list[Model]) -> ContextEncoder:
    """The columns of the interaction that any of the members looks at, once each."""
    columns = {each.name: each for model in models if isinstance(model, TakesContext) for each in model.encoder.columns}
    return ContextEncoder(tuple(columns.values()))


def scores_of_member(model: Model, users: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
    """Scores of every item for some users, each in their row of the context where one is given and the member looks at
    it: float32 (n_users, n_items)."""
    takes, factors = takes_context(model), factors_of(model)
    if takes is not None and context is not None:
        return takes.scores_in(users, context)
    return model.scores(users) if factors is None else factors.users[users] @ factors.items.T


def scores_of_history(
    model: Model, items: np.ndarray, values: np.ndarray, n_items: int, context: pl.DataFrame | None = None
) -> np.ndarray:
    """What a member says of someone new: folded in where it can, what it says of everyone where that is the same for
    all, else nothing. context: of one row. float32 (n_items,)."""
    if (able := folding(model)) is not None:
        known, takes = able.fold_in(items, values), takes_context(model)
        return able.scores_of(known) if takes is None or context is None else takes.scores_of_in(known, context)
    if not model.personal:
        return model.scores(np.zeros(1, np.int32))[0]
    return np.zeros(n_items, np.float32)


def states_of(models: list[Model]) -> Arrays:
    """States of the members, their names with a number before."""
    return {f"{place}.{name}": array for place, model in enumerate(models) for name, array in model.state().items()}


def state_of_member(arrays: Arrays, place: int) -> Arrays:
    """What of a joint state belongs to one member."""
    start = f"{place}."
    return {name[len(start) :]: array for name, array in arrays.items() if name.startswith(start)}


def brought_up_members(models: list[Model], arrays: Arrays) -> Arrays:
    """A joint state with that of every member as today's."""
    own = {name: array for name, array in arrays.items() if not name.partition(".")[0].isdigit()}
    for place, model in enumerate(models):
        member = model.brought_up(state_of_member(arrays, place))
        own |= {f"{place}.{name}": array for name, array in member.items()}
    # what belongs to no member is left for the check to refuse
    return {name: array for name, array in arrays.items() if _place(name) >= len(models)} | own


def _place(name: str) -> int:
    number = name.partition(".")[0]
    return int(number) if number.isdigit() and len(number) < 4 else -1


def fit_members(
    models: list[Model],
    train: InteractionMatrix,
    features: Features | None,
    watch: Watch,
    start: float = 0.0,
    width: float = 1.0,
) -> list[Model]:
    """The members, fitted one after the other: those that were fitted before on this matrix as they are. start, width:
    the stretch of the whole fit's progress."""
    fitted = []
    for place, model in enumerate(models):
        low, high = (start + width * at / len(models) for at in (place, place + 1))
        known = None if watch.lent is None else watch.lent.find(model, train)
        if known is None:
            inner = Watch(
                progress=inner_progress(watch.part(low, high)), lent=watch.lent, judged_later=watch.judged_later
            )
            known = model.fit(train, features=features if taking_features(model) else None, watch=inner)
            watch.warnings += [f"{model.family}: {text}" for text in inner.warnings if text not in watch.warnings]
            if watch.lent is not None:
                watch.lent.keep(known, train)
        else:
            watch.borrowed.append(known.family)
        fitted.append(known)
    return fitted


def inner_progress(part: Callable[[float], bool]) -> Progress:
    """A member's progress as a part of the whole."""
    return lambda done, iteration: part(done)


def layouts_of(models: list[Model], train: InteractionMatrix) -> Layout:
    """Layouts of the members, the arrays and lengths that each names with its number before."""
    return {
        f"{place}.{name}": _numbered(spec, place)
        for place, model in enumerate(models)
        for name, spec in model.layout(train).items()
    }


def _numbered(spec: ArraySpec, place: int) -> ArraySpec:
    below, offsets_of = spec.below, spec.offsets_of
    return replace(
        spec,
        shape=tuple(f"{place}.{each}" if isinstance(each, str) else each for each in spec.shape),
        below=f"{place}.{below}" if isinstance(below, str) else below,
        offsets_of=None if offsets_of is None else f"{place}.{offsets_of}",
    )
