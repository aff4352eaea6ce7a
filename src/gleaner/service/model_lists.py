"""What a bare model recommends."""

from __future__ import annotations

import numpy as np

from gleaner.core.errors import NotFoundError
from gleaner.service import recommend
from gleaner.service.recommend import Person
from gleaner.service.state import Service
from gleaner.store import models
from gleaner.wire.models import ModelList


def list_for(service: Service, reference: str, user: str, n: int, *, include_known: bool) -> ModelList:
    """The n best items of one user. A model answers for users it was trained on, and one that is the same for all
    for anybody. Raises NotFoundError for an unknown user otherwise."""
    loaded = service.library.model(reference)
    person = Person.of(loaded, user, [])
    if person.row is None and loaded.model.personal:
        raise NotFoundError(
            f"{loaded.name} was not trained on user {user!r}; a shelf answers for anybody, with a fallback",
            where="user",
        )
    row = np.array([person.row or 0], dtype=np.int32)
    left_out = np.empty(0, dtype=np.int32) if include_known else person.history
    lists = recommend.best(loaded, loaded.model.scores(row)[0], n, left_out)
    with service.engine.begin() as connection:
        version_id = models.files(connection, loaded.name).version_id
    table = service.library.items_of_version(version_id)
    places = recommend.as_places(loaded, lists, table, table.columns)
    short = len(places) < n
    return ModelList(
        model=loaded.name,
        user=user,
        known=person.row is not None,
        asked=n,
        left_out=len(left_out),
        list=places,
        note=f"{n} were asked for, {len(places)} are left to recommend" if short else None,
    )
