"""Shelves in memory, swapped whole when a new version is published."""

from __future__ import annotations

import logging
import secrets
import threading
import time
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

import numpy as np
from sqlalchemy import Engine

from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.service import recommend
from gleaner.service.library import ItemTable, Library
from gleaner.service.recommend import Person, Stages
from gleaner.service.shelf_conditions import Eligible, People, condition_of
from gleaner.store import datasets, models, shelves
from gleaner.store.served import ServedRow
from gleaner.wire.shelves import RecommendationAnswer, RecommendRequest, ShelfSpec

log = logging.getLogger("gleaner.service")

QUICK_INDEXED, QUICK_SCANNED = 200_000, 20_000
"""Items up to which a list is made without waking a thread, with bounds to walk by and without."""


@dataclass(frozen=True, eq=False)
class LoadedShelf:
    """One version of a shelf, ready to answer. Never changed: a new version is a new object."""

    spec: ShelfSpec
    number: int
    model: Eligible
    fallback: Eligible
    items: ItemTable

    @cached_property
    def is_quick(self) -> bool:
        """Whether a list takes well below a millisecond or so: few items, or a model that need not score them all,
        and no condition on who asks."""
        return not self.model.varies and all(
            len(ranker.fitted.train.items) <= (QUICK_INDEXED if ranker.fitted.index else QUICK_SCANNED)
            for ranker in (self.model, self.fallback)
        )

    def answer(self, request: RecommendRequest) -> dict[str, Any]:
        """One list, as the fields of a `RecommendationAnswer`: `checked` is one, and costs as much as the list.

        There is always one: for someone unknown it comes from the fallback, and says so.
        """
        stages = Stages()
        ranker = self.model
        person = Person.of(ranker.fitted, request.user, request.recent)
        stages.note("history", len(person.history) + len(person.recent))
        allowed = ranker.allowed(request)
        stages.note("candidates", _count(ranker, allowed))
        left_out = self._left_out(person)
        found = recommend.personal_best(ranker.fitted, person, request.n, allowed, _joined(left_out))
        if found is None:
            ranker = self.fallback
            person = Person.of(ranker.fitted, request.user, request.recent)
            left_out, allowed = self._left_out(person), ranker.allowed(request)
            nothing = recommend.NOBODY, recommend.NO_VALUES
            lists = ranker.fitted.best_from(*nothing, request.n, allowed, _joined(left_out))
            instead: str | None = f"{ranker.fitted.name}: {recommend.why_not_personal(person)}"
        else:
            lists, instead = found
        stages.note("ranking", len(lists.items))
        places = recommend.as_places(ranker.fitted, lists, self.items, self.spec.show)
        stages.note("columns", len(places))
        counts = {reason: len(rows) for reason, rows in left_out.items()}
        if allowed is not None:
            counts["where"] = len(ranker.fitted.train.items) - _count(ranker, allowed)
        short = len(places) < request.n
        return {
            "list_id": _list_id(),
            "shelf": self.spec.shelf,
            "version": self.number,
            "model": ranker.fitted.name,
            "user": request.user,
            "asked": request.n,
            "list": places,
            "fallback": instead,
            "left_out": counts,
            "note": f"{request.n} were asked for, {len(places)} are left to recommend" if short else None,
            "stages": stages.rows() if request.explain else None,
        }

    def checked(self, request: RecommendRequest) -> RecommendationAnswer:
        """The same as a message."""
        return RecommendationAnswer.model_validate(self.answer(request))

    def _left_out(self, person: Person) -> dict[str, np.ndarray]:
        rows = {"known": person.history, "recent": person.recent}
        return {reason: rows[reason] for reason in self.spec.leave_out}


def _count(ranker: Eligible, allowed: np.ndarray | None) -> int:
    """Items that may be listed."""
    return len(ranker.fitted.train.items) if allowed is None else int(np.count_nonzero(allowed))


def _joined(left_out: dict[str, np.ndarray]) -> np.ndarray:
    """All rows left out, rising."""
    parts = [rows for rows in left_out.values() if len(rows)]
    return np.unique(np.concatenate(parts)) if len(parts) > 1 else parts[0] if parts else recommend.NOBODY


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

    def held(self, name: str) -> LoadedShelf | None:
        """The shelf as it is served now, where this process has it already."""
        return self._shelves.get(name)

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
        items, people = self.tables(main)
        for column in spec.show:
            if column not in items.columns:
                has = f"it has: {', '.join(items.columns)}" if items.columns else "the dataset has no item table"
                raise InputError(f"there is no item column {column!r} to show; {has}", where="show")
        condition = None if spec.where is None else condition_of(spec.where, items, people)
        rankers = [Eligible(fitted, items, people, condition) for fitted in (main, fallback)]
        for ranker in rankers:
            _require_candidates(ranker)
        shelf = LoadedShelf(spec, number, rankers[0], rankers[1], items)
        for ranker in (shelf.model, shelf.fallback):
            ranker.fitted.train.items.make_ready()
        shelf.checked(RecommendRequest(user=main.train.users.id(0), n=1))
        shelf.checked(RecommendRequest(n=1))
        return shelf

    def tables(self, main: Fitted) -> tuple[ItemTable, People]:
        """The items and users of the version that the shelf's model was trained on."""
        with self.engine.begin() as connection:
            version_id = models.files(connection, main.name).version_id
            kinds = [] if version_id is None else datasets.kinds_by_id(connection, version_id)
        items, users = self.library.items_of_version(version_id), self.library.users_of_version(version_id)
        return items, People(users, kinds, lambda: self.library.past(version_id or 0))

    def _fallback(self, spec: ShelfSpec) -> Fitted:
        for source in spec.fallback:
            loaded = self.library.model(source.model)
            if not loaded.model.personal:
                return loaded
        raise InputError(
            f"no fallback serves someone unknown: {spec.fallback[0].model} needs a history; name a popularity model",
            where="fallback",
        )


def _require_candidates(ranker: Eligible) -> None:
    """Raise InputError where a condition leaves nothing whoever asks; what depends on them is known when they ask."""
    masks = ranker.masks
    if masks is not None and not masks.fixed.any():
        text = f"the condition holds for none of the {len(masks.fixed):,} items of {ranker.fitted.name}"
        raise InputError(text, where="where")


def served(answer: dict[str, Any]) -> ServedRow:
    """An answer as the list log keeps it."""
    return ServedRow(
        list_id=answer["list_id"],
        shelf=answer["shelf"],
        version=answer["version"],
        user=answer["user"],
        items=[place["item"] for place in answer["list"]],
        fallback=answer["fallback"],
        at=datetime.now(UTC),
    )


def _list_id() -> str:
    """Time first, so that ids sort by when they were made, then chance."""
    return f"{time.time_ns() // 1_000_000:012x}{_chance():012x}"


def _chance() -> int:
    """48 bits from the system, fetched for many lists at once: each fetch costs as much as a good part of a list."""
    try:
        return _CHANCES.pop()
    except IndexError:
        fresh = secrets.token_bytes(6 * CHANCES)
        _CHANCES.extend(int.from_bytes(fresh[at : at + 6]) for at in range(0, len(fresh), 6))
        return _CHANCES.pop()


CHANCES = 256
_CHANCES: list[int] = []
