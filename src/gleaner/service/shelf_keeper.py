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

from sqlalchemy import Engine

from gleaner.core.data.live import LiveRows
from gleaner.core.data.live_cells import LiveMeasure
from gleaner.core.data.past import PastRows
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.ranking.slots import Placed
from gleaner.service import recommend
from gleaner.service.library import ItemTable, Library
from gleaner.service.live import Live
from gleaner.service.recommend import Stages
from gleaner.service.shelf_asked import Asked
from gleaner.service.shelf_conditions import Eligible, People, condition_of
from gleaner.service.shelf_slots import ShelfSlots, as_lists, slots_of
from gleaner.store import datasets, live_columns, models, shelves
from gleaner.store.served import ServedRow
from gleaner.wire.contests import PrepareSpec
from gleaner.wire.shelves import RecommendationAnswer, RecommendRequest, ShelfSpec, SlotsSpec

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
    dataset_id: int | None
    slots: tuple[ShelfSlots, ShelfSlots] | None = None

    @cached_property
    def is_quick(self) -> bool:
        """Whether a list takes well below a millisecond or so: few items, or a model that need not score them all,
        no condition on who asks and no slots."""
        return (
            not self.model.varies
            and self.slots is None
            and all(
                len(ranker.fitted.train.items) <= (QUICK_INDEXED if ranker.fitted.index else QUICK_SCANNED)
                for ranker in (self.model, self.fallback)
            )
        )

    def answer(self, request: RecommendRequest) -> dict[str, Any]:
        """One list, as the fields of a `RecommendationAnswer`: `checked` is one, and costs as much as the list.

        There is always one: for someone unknown it comes from the fallback, and says so.
        """
        stages = Stages()
        asked = Asked(self.model, request, self.spec.leave_out)
        stages.note("history", len(asked.person.known) + len(asked.person.recent))
        stages.note("candidates", asked.n_allowed)
        lists = asked.personal(request.n)
        if lists is None:
            asked = Asked(self.fallback, request, self.spec.leave_out, asked.why_not())
            lists = asked.for_anyone(request.n)
        stages.note("ranking", len(lists.items))
        made: list[Placed] = []
        if self.slots is not None:
            made = self.slots[asked.eligible is self.fallback].fill(request, asked.best)
            lists = as_lists(made)
            stages.note("slots", sum(each.how != "ranked" for each in made))
        places = recommend.as_places(asked.eligible.fitted, lists, self.items, self.spec.show)
        for place, each in zip(places, made, strict=False):
            place["promoted"] = each.how == "promoted"
            place["source"] = "pinned" if each.how == "pinned" else place["source"]
        stages.note("columns", len(places))
        short = len(places) < request.n
        return {
            "list_id": _list_id(),
            "shelf": self.spec.shelf,
            "version": self.number,
            "model": asked.eligible.fitted.name,
            "user": request.user,
            "asked": request.n,
            "list": places,
            "fallback": asked.instead,
            "left_out": asked.counts(),
            "note": f"{request.n} were asked for, {len(places)} are left to recommend" if short else None,
            "stages": stages.rows() if request.explain else None,
        }

    def checked(self, request: RecommendRequest) -> RecommendationAnswer:
        """The same as a message."""
        return RecommendationAnswer.model_validate(self.answer(request))


class ShelfKeeper:
    """Every shelf asked for so far. Requests read one reference; a swap replaces it."""

    def __init__(self, engine: Engine, library: Library, live: Live) -> None:
        self.engine = engine
        self.library = library
        self.live = live
        self._shelves: dict[str, LoadedShelf] = {}
        self._lock = threading.Lock()
        self._counting = threading.Lock()
        self._asked: dict[int, int] = {}
        self._done: dict[int, int] = {}

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
        for dataset_id in {held.dataset_id for held in self._shelves.values() if held.dataset_id is not None}:
            self.reload(dataset_id)

    def hear_of_columns(self, payload: str) -> None:
        """Act on the news that columns of a dataset changed."""
        dataset_id, _, origin = payload.partition(" ")
        if origin != self.live.origin:
            self.reload(int(dataset_id))

    def reload(self, dataset_id: int) -> None:
        """Act on changed columns: build every shelf of the dataset anew and swap it in. Calls that come while one is
        under way share the next."""
        with self._counting:
            turn = self._asked[dataset_id] = self._asked.get(dataset_id, 0) + 1
        with self._lock:
            if self._done.get(dataset_id, 0) >= turn:
                return
            with self._counting:
                turn = self._asked[dataset_id]
            for name, held in list(self._shelves.items()):
                if held.dataset_id == dataset_id:
                    self._shelves[name] = self.load(held.spec, held.number)
            self._done[dataset_id] = turn

    def load(self, spec: ShelfSpec, number: int, *, new: bool = False) -> LoadedShelf:
        """Build a shelf and ask it for one list, so that a broken version is found before it is served. new: it is to
        be published, and must have something to list; later, columns may change until it has nothing.

        Raises InputError or NotFoundError naming what does not fit.
        """
        main = self.library.model(spec.candidates[0].model)
        fallback = self._fallback(spec)
        items, people, dataset_id = self.tables(main)
        for column in spec.show:
            if column not in items.columns:
                has = f"it has: {', '.join(items.columns)}" if items.columns else "the dataset has no item table"
                raise InputError(f"there is no item column {column!r} to show; {has}", where="show")
        condition = None if spec.where is None else condition_of(spec.where, items, people)
        rankers = [Eligible(fitted, items, people, condition, self._measure(fitted)) for fitted in (main, fallback)]
        for ranker in rankers if new else ():
            _require_candidates(ranker)
        slots = None
        if spec.slots != SlotsSpec():
            slots = slots_of(rankers[0], spec.slots, pins=True), slots_of(rankers[1], spec.slots)
        shelf = LoadedShelf(spec, number, rankers[0], rankers[1], items, dataset_id, slots)
        for ranker in (shelf.model, shelf.fallback):
            ranker.fitted.train.items.make_ready()
        shelf.checked(RecommendRequest(user=main.train.users.id(0), n=1))
        shelf.checked(RecommendRequest(n=1))
        return shelf

    def tables(self, main: Fitted) -> tuple[ItemTable, People, int | None]:
        """The items and users of the version that the shelf's model was trained on, with what changed since, and its
        dataset."""
        with self.engine.begin() as connection:
            version_id = models.files(connection, main.name).version_id
            if version_id is None:
                return ItemTable(None), People(ItemTable(None), [], _nothing_past, LiveRows()), None
            kinds = datasets.kinds_by_id(connection, version_id)
            dataset_id, made_at = datasets.made(connection, version_id)
            changed = {side: live_columns.cells_of(connection, dataset_id, side) for side in ("item", "user")}
        items, users = self.library.items_of_version(version_id), self.library.users_of_version(version_id)
        items, users = (
            table.changed([cell for cell in changed[side] if cell.at > made_at])
            for side, table in (("item", items), ("user", users))
        )
        people = People(users, kinds, lambda: self.library.past(version_id), self.live.rows(dataset_id))
        return items, people, dataset_id

    def _measure(self, fitted: Fitted) -> LiveMeasure:
        with self.engine.begin() as connection:
            prepare = PrepareSpec.model_validate(models.card(connection, fitted.name).prepare)
        return LiveMeasure(
            kinds=prepare.kinds,
            drop_kinds=tuple(prepare.drop_kinds),
            values=fitted.train.scale is not None,
            like_from=prepare.like_from,
            merge=prepare.merge,
            typical=float(fitted.typical_value) if prepare.transform else None,
        )

    def _fallback(self, spec: ShelfSpec) -> Fitted:
        for source in spec.fallback:
            loaded = self.library.model(source.model)
            if not loaded.model.personal:
                return loaded
        raise InputError(
            f"no fallback serves someone unknown: {spec.fallback[0].model} needs a history; name a popularity model",
            where="fallback",
        )


def _nothing_past() -> PastRows:
    raise InputError("a model that was brought in without its data has no histories", where="where")


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
