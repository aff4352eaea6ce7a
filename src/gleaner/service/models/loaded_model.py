"""A model with the tables of its dataset and what is known of its users."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Literal

from gleaner.core.fitted import Fitted
from gleaner.service.http.state import Service
from gleaner.serving.conditions import Eligible
from gleaner.serving.person import Person
from gleaner.serving.tables import ItemTable
from gleaner.store import models
from gleaner.wire.shelves.shelf import RecommendRequest

Side = Literal["item", "user"]


@dataclass(frozen=True, eq=False)
class LoadedModel:
    """A model with the tables of its dataset.

    load_eligible: makes what users are looked up by: their rows in the data version, and their events since. None for a
    model that was fitted on the training part only, which lists as in its contest.
    """

    fitted: Fitted
    items: ItemTable
    users: ItemTable
    load_eligible: Callable[[], Eligible] | None

    @cached_property
    def eligible(self) -> Eligible | None:
        """Return what users are looked up by, or None for the training matrix alone."""
        return None if self.load_eligible is None else self.load_eligible()

    def person(self, user: str) -> Person:
        """Return a user in the rows of the model, with everything they touched."""
        if self.eligible is None:
            return Person.of(self.fitted, user, [], {})
        return self.eligible.person(RecommendRequest.model_construct(user=user))

    def untrained_users_with(self, item: str) -> set[str]:
        """Return the users who have an item by rows or events that training did not use."""
        if self.eligible is None:
            return set()
        people = self.eligible.people
        return {*self.fitted.untrained.cells().users_with(item), *people.live.users_with(item)}

    def narrowed(self, side: Side, chosen: list[str] | None, where: str | None) -> tuple[list[str] | None, int | None]:
        """Candidates for which a condition holds, and for how many of the model's ids it does."""
        if where is None:
            return chosen, None
        table, ids = (self.items, self.fitted.train.items) if side == "item" else (self.users, self.fitted.train.users)
        matching = table.matching(where)
        holds = int((ids.rows(matching) >= 0).sum())
        if chosen is not None:
            wanted = set(matching)
            matching = [each for each in chosen if each in wanted]
        return matching, holds

    def columns(self, side: Side, id: str) -> dict[str, Any]:
        """All columns of an item or a user."""
        table = self.items if side == "item" else self.users
        return table.of(id, table.columns)

    def name_of(self, side: Side, id: str) -> str | None:
        """What people call it, where the table has a column `name`, `title` or `label`."""
        return (self.items if side == "item" else self.users).labels_of([id])[0]


def ask(service: Service, reference: str) -> LoadedModel:
    """Load what it takes to answer. Raises UnknownNameError."""
    library, lookups = service.library, service.shelves.lookups
    fitted = library.model(reference)
    with service.engine.begin() as connection:
        files = models.files(connection, fitted.name)

    def eligible() -> Eligible:
        tables = lookups.tables(fitted)
        return Eligible(fitted, tables.items, tables.people, None, lookups.reading(fitted))

    items, users = library.items_of_version(files.version_id), library.users_of_version(files.version_id)
    return LoadedModel(fitted, items, users, eligible if files.is_on_all_rows else None)
