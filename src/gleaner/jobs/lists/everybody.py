"""Everybody that a model can rank for: training users, and users of its data and of events who are folded in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.fitted import Fitted
from gleaner.core.folded_users import FoldedUser, with_folded_users, with_known_cells
from gleaner.jobs.models.model_cache import ModelCache
from gleaner.jobs.shelves.stored_lookups import StoredEvents, StoredLookups
from gleaner.jobs.worker.context import JobContext
from gleaner.serving.conditions import Eligible
from gleaner.serving.person import folded
from gleaner.store import models
from gleaner.wire.shelves.shelf import RecommendRequest


def lookups_of(context: JobContext) -> StoredLookups:
    """Return lookups for a job: models, tables, and the events that a serving process would hold."""
    library = ModelCache(context.engine, context.artefacts)
    return StoredLookups(context.engine, library, StoredEvents(context.engine, context.settings.live_events))


@dataclass(frozen=True, eq=False)
class Everybody:
    """A model that also knows the folded-in users. trained: without these. known: every item that each user has."""

    fitted: Fitted
    trained: Fitted
    known: InteractionMatrix


def everybody(lookups: StoredLookups, model: str) -> Everybody:
    """Fold in users of the data version and of events that training did not know, where the model can.

    Training users keep what the model learned of them; all of their rows count as known. A model that was fitted on the
    training part only lists as in its contest: for training users, held-out items included. Raises UnknownNameError.
    """
    fitted = lookups.model(model)
    with lookups.engine.begin() as connection:
        is_on_all_rows = models.files(connection, fitted.name).is_on_all_rows
    if not is_on_all_rows:
        return Everybody(fitted, fitted, fitted.train)
    tables = lookups.tables(fitted)
    eligible = Eligible(fitted, tables.items, tables.people, None, lookups.reading(fitted))
    names = [*fitted.untrained.cells().users.ids.to_pylist(), *tables.people.live.users()]
    people, user_rows, item_rows = list[FoldedUser](), list[np.ndarray](), list[np.ndarray]()
    for name in dict.fromkeys(names):
        person = eligible.person(RecommendRequest.model_construct(user=name))
        row = person.row
        if row is None:
            representation = folded(fitted, person)
            if representation is None and fitted.model.personal:
                continue
            row = len(fitted.train.users) + len(people)
            people.append(FoldedUser(name, representation))
        more = np.setdiff1d(person.known, person.history)
        user_rows.append(np.full(len(more), row))
        item_rows.append(more)
    extended = with_folded_users(fitted, people)
    if not user_rows:
        return Everybody(extended, fitted, extended.train)
    known = with_known_cells(extended.train, np.concatenate(user_rows), np.concatenate(item_rows))
    return Everybody(extended, fitted, known)
