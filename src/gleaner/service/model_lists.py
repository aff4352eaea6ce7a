"""What a bare model recommends."""

from __future__ import annotations

import numpy as np

from gleaner.core.errors import NotFoundError
from gleaner.jobs.model_files import LoadedModel
from gleaner.service import recommend
from gleaner.service.library import ItemTable
from gleaner.service.recommend import Person
from gleaner.service.state import Service
from gleaner.store import models
from gleaner.wire.models import ModelList


def list_for(
    service: Service, reference: str, user: str, n: int, *, include_known: bool, where: str | None
) -> ModelList:
    """The n best items of one user, of those for which a condition holds.

    A model answers for users it was trained on, and one that is the same for all for anybody. Raises NotFoundError for
    an unknown user otherwise, InputError for a condition that does not fit.
    """
    loaded = service.library.model(reference)
    person = Person.of(loaded, user, [])
    if person.row is None and loaded.model.personal:
        raise NotFoundError(
            f"{loaded.name} was not trained on user {user!r}; a shelf answers for anybody, with a fallback",
            where="user",
        )
    with service.engine.begin() as connection:
        version_id = models.files(connection, loaded.name).version_id
    table = service.library.items_of_version(version_id)
    scores = loaded.model.scores(np.array([person.row or 0], dtype=np.int32))[0]
    kept = None if where is None else _kept(loaded, table, where)
    if kept is not None:
        scores = np.where(kept, scores, np.float32(-np.inf))
    left_out = np.empty(0, dtype=np.int32) if include_known else person.history
    lists = recommend.best(loaded, scores, n, left_out)
    places = recommend.as_places(loaded, lists, table, table.columns)
    short = len(places) < n
    return ModelList(
        model=loaded.name,
        user=user,
        known=person.row is not None,
        asked=n,
        left_out=len(left_out),
        where_keeps=None if kept is None else int(kept.sum()),
        list=places,
        note=f"{n} were asked for, {len(places)} are left to recommend" if short else None,
    )


def _kept(loaded: LoadedModel, table: ItemTable, where: str) -> np.ndarray:
    """Mask of the model's items for which a condition holds: bool (n_items,). An item without a row is not taken."""
    rows = loaded.train.items.rows(table.matching(where))
    kept = np.zeros(len(loaded.train.items), dtype=bool)
    kept[rows[rows >= 0]] = True
    return kept
