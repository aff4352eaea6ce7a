"""Shelves in memory, swapped whole when a new version is published."""

from __future__ import annotations

import logging
import secrets
import threading
import time
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from sqlalchemy import Engine

from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.service import recommend
from gleaner.service.library import ItemTable, Library
from gleaner.service.recommend import Person, Stages
from gleaner.store import models, shelves
from gleaner.wire.shelves import RecommendationAnswer, RecommendRequest, ServedList, ShelfSpec

log = logging.getLogger("gleaner.service")


@dataclass(frozen=True, eq=False)
class LoadedShelf:
    """One version of a shelf, ready to answer. Never changed: a new version is a new object."""

    spec: ShelfSpec
    number: int
    model: Fitted
    fallback: Fitted
    items: ItemTable

    def answer(self, request: RecommendRequest) -> RecommendationAnswer:
        """One list. There is always one: for someone unknown it comes from the fallback, and says so."""
        stages = Stages()
        person = Person.of(self.model, request.user, request.recent)
        stages.note("history", len(person.history) + len(person.recent))
        loaded, fallback = self.model, None
        found = recommend.personal_scores(self.model, person)
        if found is None:
            loaded = self.fallback
            person = Person.of(loaded, request.user, request.recent)
            scores = loaded.model.scores(np.zeros(1, dtype=np.int32))[0]
            fallback = f"{loaded.name}: {recommend.why_not_personal(person)}"
        else:
            scores, fallback = found
        stages.note("candidates", len(scores))
        left_out = self._left_out(person)
        gone = np.unique(np.concatenate([np.empty(0, dtype=np.int32), *left_out.values()]))
        lists = recommend.best(loaded, scores, request.n, gone)
        stages.note("ranking", len(lists.items))
        places = recommend.as_places(loaded, lists, self.items, self.spec.show)
        stages.note("columns", len(places))
        short = len(places) < request.n
        return RecommendationAnswer(
            list_id=_list_id(),
            shelf=self.spec.shelf,
            version=self.number,
            model=loaded.name,
            user=request.user,
            asked=request.n,
            list=places,
            fallback=fallback,
            left_out={reason: len(rows) for reason, rows in left_out.items()},
            note=f"{request.n} were asked for, {len(places)} are left to recommend" if short else None,
            stages=stages.rows if request.explain else None,
        )

    def _left_out(self, person: Person) -> dict[str, np.ndarray]:
        rows = {"known": person.history, "recent": person.recent}
        return {reason: rows[reason] for reason in self.spec.leave_out}


class ShelfKeeper:
    """Every shelf asked for so far. Requests read one reference; a swap replaces it."""

    def __init__(self, engine: Engine, library: Library) -> None:
        self.engine = engine
        self.library = library
        self._shelves: dict[str, LoadedShelf] = {}
        self._lock = threading.Lock()

    def get(self, name: str) -> LoadedShelf:
        """The shelf as it is served now. Raises NotFoundError."""
        return self._shelves.get(name) or self.refresh(name)

    def refresh(self, name: str) -> LoadedShelf:
        """Load the version being served and swap it in."""
        with self._lock:
            with self.engine.begin() as connection:
                version = shelves.get(connection, name)
            held = self._shelves.get(name)
            if held and held.number == version.number:
                return held
            loaded = self.load(version.spec, version.number)
            self._shelves[name] = loaded
            return loaded

    def refresh_held(self, name: str) -> None:
        """Act on the news of a version: swap it in, if this process serves the shelf at all."""
        if name in self._shelves:
            self.refresh(name)

    def forget_all(self) -> None:
        """Look everything up afresh, after notifications may have been missed."""
        for name in list(self._shelves):
            self.refresh(name)

    def load(self, spec: ShelfSpec, number: int) -> LoadedShelf:
        """Build a shelf and ask it for one list, so that a broken version is found before it is served.

        Raises InputError or NotFoundError naming what does not fit.
        """
        main = self.library.model(spec.candidates[0].model)
        fallback = self._fallback(spec)
        with self.engine.begin() as connection:
            version_id = models.files(connection, main.name).version_id
        items = self.library.items_of_version(version_id)
        for column in spec.show:
            if column not in items.columns:
                has = f"it has: {', '.join(items.columns)}" if items.columns else "the dataset has no item table"
                raise InputError(f"there is no item column {column!r} to show; {has}", where="show")
        shelf = LoadedShelf(spec, number, main, fallback, items)
        shelf.answer(RecommendRequest(user=main.train.users.id(0), n=1))
        shelf.answer(RecommendRequest(n=1))
        return shelf

    def _fallback(self, spec: ShelfSpec) -> Fitted:
        for source in spec.fallback:
            loaded = self.library.model(source.model)
            if not loaded.model.personal:
                return loaded
        raise InputError(
            f"no fallback serves someone unknown: {spec.fallback[0].model} needs a history; name a popularity model",
            where="fallback",
        )


def served(answer: RecommendationAnswer) -> ServedList:
    """An answer as the list log keeps it."""
    return ServedList(
        list_id=answer.list_id,
        shelf=answer.shelf,
        version=answer.version,
        user=answer.user,
        at=datetime.now(UTC),
        items=[place.item for place in answer.list],
        fallback=answer.fallback,
    )


def _list_id() -> str:
    """Time first, so that ids sort by when they were made, then chance."""
    return f"{time.time_ns() // 1_000_000:012x}{secrets.token_hex(6)}"
