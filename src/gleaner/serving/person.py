"""Who a list is for, in the terms of one model."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.untrained_cells import NO_HISTORY, UntrainedHistory
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import (
    PredictsValues,
    ScoresSome,
    factors_of,
    folding,
    knowing_columns,
    require_folding,
)
from gleaner.core.models.base.context import ContextFactors, TakesContext, takes_context

NOBODY, NO_VALUES = np.empty(0, dtype=np.int32), np.empty(0, dtype=np.float32)
"""The history of someone who has none."""


@dataclass(eq=False)
class Person:
    """A user of one model, with everything they touched. All items are rows of the model, ascending.

    row: their row in the training matrix, or None. history, values: their training cells. untrained: cells of the data
    version that training did not use. recent: items named in the request, of which there were `named`. live: items of
    their events, with weights. dropped_live: items of events that the preparation drops, which are left out like the
    others. stated: recent items with a value of their own, stated_values. columns: their row of the user table, if the
    model folds it in. latest: items of events and of the request in order of time, if the model reads an order.
    representation: the cached result of folding in.
    """

    user: str | None
    row: int | None
    history: np.ndarray
    values: np.ndarray
    recent: np.ndarray
    named: int
    live: np.ndarray
    live_values: np.ndarray
    stated: np.ndarray = field(default_factory=lambda: NOBODY)
    stated_values: np.ndarray = field(default_factory=lambda: NO_VALUES)
    columns: pl.DataFrame | None = None
    representation: np.ndarray | None = None
    latest: np.ndarray = field(default_factory=lambda: NOBODY)
    untrained: UntrainedHistory = NO_HISTORY
    dropped_live: np.ndarray = field(default_factory=lambda: NOBODY)

    @classmethod
    def of(
        cls,
        loaded: Fitted,
        user: str | None,
        recent: list[str],
        cells: dict[str, float],
        values: dict[str, float] | None = None,
        untrained: UntrainedHistory = NO_HISTORY,
    ) -> Person:
        """Look someone up. Items that the model does not know are skipped. cells: weights of live items. values: of
        items of the request, as `RecommendRequest.values`. Raises InputError for a value that the model cannot take."""
        row = loaded.train.users.row(user) if user is not None else None
        history, values_known = (NOBODY, NO_VALUES) if row is None else loaded.train.history(row)
        rows = loaded.train.items.rows(recent) if recent else NOBODY
        live, weights = _known_cells(loaded, cells) if cells else (NOBODY, NO_VALUES)
        named = len(set(recent))
        person = cls(
            user, row, history, values_known, np.unique(rows[rows >= 0]) if recent else rows, named, live, weights
        )
        person.untrained = untrained
        if values:
            person.stated, person.stated_values = _known_cells(loaded, measured(loaded, values))
        return person

    @cached_property
    def known(self) -> np.ndarray:
        """Items of the data version and of events since, ascending."""
        others = [rows for rows in (self.untrained.rows, self.live, self.dropped_live) if len(rows)]
        return np.unique(np.concatenate([self.history, *others])) if others else self.history

    @cached_property
    def touched(self) -> np.ndarray:
        """Items that a fold-in uses and that are not training cells of this user."""
        return np.setdiff1d(np.concatenate([self.untrained.counted[0], self.live, self.recent]), self.history)

    @cached_property
    def has_fresh(self) -> bool:
        """Whether there is anything to fold in.

        A trained user keeps what training learned of them until an event or the request brings more.
        """
        if len(self.stated):
            return True
        since = np.concatenate([self.live, self.recent])
        return bool(len(self.touched if self.row is None else np.setdiff1d(since, self.history)))

    def whole(self, typical: np.float32) -> tuple[np.ndarray, np.ndarray]:
        """Return every item they touched with its value: of the data version, of events, and of the request.

        An item counts once, by the first of these. An item of the request counts as it says, or as a typical one.
        """
        untrained, untrained_values, _ = self.untrained.counted
        of_version = np.concatenate([self.history, untrained])
        live = ~np.isin(self.live, of_version)
        named = np.setdiff1d(self.recent, np.concatenate([of_version, self.live]))
        new_values = np.full(len(named), typical, dtype=np.float32)
        rows = np.concatenate([of_version, self.live[live], named])
        values = np.concatenate([self.values, untrained_values, self.live_values[live], new_values])
        if len(self.stated):
            # what someone says of an item now holds instead of what was known of it
            order = np.argsort(rows)
            values[order[np.searchsorted(rows, self.stated, sorter=order)]] = self.stated_values
        return rows, values

    def in_order(self, train: InteractionMatrix, typical: np.float32) -> tuple[np.ndarray, np.ndarray]:
        """Return `whole` in order of time: first the data version, undated items before the others, then later ones."""
        rows, values = self.whole(typical)
        moments = np.full(len(train.items), -np.inf)
        if self.row is not None and train.days is not None:
            days = train.days[train.indptr[self.row] : train.indptr[self.row + 1]]
            moments[self.history] = np.where(np.isnan(days), -np.inf, days)
        untrained, _, untrained_days = self.untrained.counted
        moments[untrained] = np.where(np.isnan(untrained_days), -np.inf, untrained_days)
        newest = max(0.0, float(moments.max(initial=0.0)))
        moments[self.latest] = newest + 1 + np.arange(len(self.latest))
        order = np.argsort(moments[rows], kind="stable")
        return rows[order], values[order]


def measured(loaded: Fitted, values: dict[str, float]) -> dict[str, float]:
    """What a request says of items, as cells of the model's matrix. Raises InputError naming the item."""
    scale = loaded.train.scale
    for item, value in values.items():
        if isinstance(loaded.model, PredictsValues):
            if scale is not None and not scale[0] <= value <= scale[1]:
                text = f"{value:g} for {item!r} is outside the scale of {loaded.name}, {scale[0]:g} to {scale[1]:g}"
                raise InputError(text, where="values")
        elif value <= 0:
            text = f"{value:g} for {item!r}: {loaded.name} takes how much an item counts, which is more than 0"
            raise InputError(text, where="values")
    unit = 1.0 if isinstance(loaded.model, PredictsValues) else float(loaded.typical_value)
    return {item: value * unit for item, value in values.items()}


def _known_cells(loaded: Fitted, cells: dict[str, float]) -> tuple[np.ndarray, np.ndarray]:
    rows, values = loaded.train.items.rows(cells), np.array(list(cells.values()), dtype=np.float32)
    order = np.argsort(rows, kind="stable")
    order = order[rows[order] >= 0]
    return rows[order], values[order]


def folded(loaded: Fitted, person: Person) -> np.ndarray | None:
    """Someone folded in, with all they touched and what their columns say; None where there is nothing that training
    did not see."""
    folds = folding(loaded.model)
    is_new = person.row is None and person.columns is not None
    if folds is None or not (person.has_fresh or is_new):
        return None
    if person.representation is None:
        in_order = folds.reads_order
        whole = person.in_order(loaded.train, loaded.typical_value) if in_order else person.whole(loaded.typical_value)
        rows, values = whole
        knows = None if person.columns is None else knowing_columns(loaded.model, "users")
        if knows is None or person.columns is None:
            person.representation = folds.fold_in(rows, values)
        else:
            person.representation = knows.fold_in_row(person.columns, rows, values)
    return person.representation


def representation_in(loaded: Fitted, person: Person, given: Mapping[str, Any]) -> np.ndarray | None:
    """Someone folded in, or as training knew them, in the context of a request, for a model whose user factors depend
    on it; folded in for any other; None where training's own representation serves, or there is none."""
    representation, takes = folded(loaded, person), takes_context(loaded.model)
    if not isinstance(takes, ContextFactors) or (representation is None and person.row is None):
        return representation
    factors = factors_of(loaded.model)
    assert factors is not None
    known = factors.users[person.row] if representation is None else representation
    return takes.in_context(known[None], asked_in(takes, given))[0]


def scores_in_context(loaded: Fitted, person: Person, given: Mapping[str, Any]) -> np.ndarray | None:
    """Scores of every item in the context of a request, float32 (n_items,), for a model that looks at it without having
    factors; None for any other, and where it knows nothing of them."""
    takes = takes_context(loaded.model)
    if takes is None or isinstance(takes, ContextFactors):
        return None
    representation, context = folded(loaded, person), asked_in(takes, given)
    if representation is not None:
        return takes.scores_of_in(representation, context)
    return None if person.row is None else takes.scores_in(np.array([person.row], np.int32), context)[0]


def asked_in(takes: TakesContext, given: Mapping[str, Any]) -> pl.DataFrame:
    """One row: what the request says of the columns that a model looks at, and the moment."""
    moment, columns = datetime.now(UTC), takes.encoder.names
    parts = {"time.hour": moment.hour, "time.weekday": moment.isoweekday(), "time.month": moment.month}
    return takes.encoder.frame_of([parts | {name: value for name, value in given.items() if name in columns}])


def scores_at(loaded: Fitted, person: Person, rows: np.ndarray, given: Mapping[str, Any]) -> np.ndarray | None:
    """Scores of some items for this person, in the context that is given: float32 (m,); None where the model knows
    nothing of them."""
    model = loaded.model
    if not model.personal:
        return model.scores(np.zeros(1, np.int32))[0][rows]
    if isinstance(model, ScoresSome):
        known = folded(loaded, person)
        if known is None and person.row is not None:
            known = model.as_folded(person.row)
        takes = takes_context(model)
        return None if known is None else model.scores_among(known, rows, asked_in(takes, given) if takes else None)
    scores = scores_in_context(loaded, person, given)
    if scores is not None:
        return scores[rows]
    representation, factors = representation_in(loaded, person, given), factors_of(model)
    if representation is None and person.row is None:
        return None
    if factors is not None:
        user = factors.users[person.row] if representation is None else representation
        return factors.items[rows] @ user
    if representation is not None:
        return require_folding(model).scores_of(representation)[rows]
    return model.scores(np.array([person.row], np.int32))[0][rows]


def folded_in(person: Person) -> str:
    """Return who was folded in and from what, as a sentence without its full stop."""
    parts = []
    if n_history := len(np.union1d(person.history, person.untrained.counted[0])):
        parts.append(f"{n_history} item{'s' if n_history > 1 else ''} of their history")
    if n_recent := len(person.recent):
        count = f"{n_recent} of {person.named}" if n_recent < person.named else f"{n_recent}"
        parts.append(f"{count} recent item{'s' if person.named > 1 else ''}")
    if n_live := len(np.setdiff1d(person.live, person.untrained.counted[0])):
        parts.append(f"{n_live} item{'s' if n_live > 1 else ''} of their events")
    if person.columns is not None:
        parts.append("their row of the user table")
    return f"{_who(person)}; computed from {' and '.join(parts)}"


def _who(person: Person) -> str:
    return "no user was named" if person.user is None else f"user {person.user!r} is not in the training data"


def why_not_personal(loaded: Fitted, person: Person) -> str:
    """Return why a model has no list for someone."""
    if person.row is not None:
        return f"no source has anything for user {person.user!r}"
    who = _who(person)
    if len(person.touched) and folding(loaded.model) is None:
        return f"{who}, and {loaded.name} ({loaded.model.family}) cannot fold in what they touched"
    if len(person.untrained.rows) and not len(person.touched):
        return f"{who}, and the preparation drops all rows they have"
    if person.named:
        return f"{who}, and none of the recent items ({person.named}) is known"
    return f"{who}, and no recent items were given"
