"""Shelves in memory, swapped whole when a new version is published."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from dataclasses import replace

from sqlalchemy import Engine
from sqlalchemy.exc import OperationalError

from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.jobs.models.model_cache import ModelCache
from gleaner.jobs.shelves.stored_lookups import RememberedLookups, StoredLookups
from gleaner.service.events.live import LiveEvents
from gleaner.serving.building import Kept, ShelfBuilder, ShelfTables, build
from gleaner.serving.conditions import Eligible
from gleaner.serving.shelf import LoadedShelf
from gleaner.serving.timing import StageTimes
from gleaner.store import shelves
from gleaner.wire.shelves.shelf import RecommendRequest, ShelfSpec

log = logging.getLogger("gleaner.service")

NUMBERED = 8
"""Versions asked for by number that stay in memory beside those being served; the one loaded first goes first."""


class ShelfKeeper:
    """Every shelf asked for so far. Requests read one reference; a swap replaces it."""

    def __init__(self, engine: Engine, library: ModelCache, live: LiveEvents) -> None:
        self.engine = engine
        self.library = library
        self.live = live
        self._shelves: dict[str, LoadedShelf] = {}
        self._lock = threading.Lock()
        self._counting = threading.Lock()
        self._reloads_wanted: dict[int, int] = {}
        self._reloads_done: dict[int, int] = {}
        self.lookups = StoredLookups(engine, library, live)
        self._lookalikes: Kept = {}
        self.observe: Callable[[str, StageTimes], None] | None = None

    def get(self, name: str) -> LoadedShelf:
        """The shelf as it is served now. Raises UnknownNameError."""
        return self._shelves.get(name) or self.refresh(name)

    def loaded(self, name: str) -> LoadedShelf | None:
        """The shelf as it is served now, where this process has it already."""
        return self._shelves.get(name)

    def refresh(self, name: str) -> LoadedShelf:
        """Load the version being served and swap it in."""
        with self._lock:
            with self.engine.begin() as connection:
                version = shelves.get(connection, name)
            loaded_before = self._shelves.get(name)
            if loaded_before and loaded_before.number == version.number:
                return loaded_before
            loaded = self.load(version.spec, version.number)
            self._shelves[name] = loaded
            for old in [each for each in self._shelves if "@" in each][:-NUMBERED]:
                del self._shelves[old]
            return loaded

    def refresh_all(self) -> None:
        """Load every shelf that is published, so that no caller waits for it. One that cannot be loaded is reported in
        the log and to whoever asks for it; it does not keep the others from being served."""
        with self.engine.begin() as connection:
            names = shelves.names(connection)
        for name in names:
            try:
                self.refresh(name)
            except OperationalError:
                raise
            except Exception:
                log.exception("shelf %s cannot be served", name)

    def forget_all(self) -> None:
        """Look everything up afresh, after notifications may have been missed."""
        self.refresh_all()
        for dataset_id in {shelf.dataset_id for shelf in self._shelves.values() if shelf.dataset_id is not None}:
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
            turn = self._reloads_wanted[dataset_id] = self._reloads_wanted.get(dataset_id, 0) + 1
        with self._lock:
            if self._reloads_done.get(dataset_id, 0) >= turn:
                return
            with self._counting:
                turn = self._reloads_wanted[dataset_id]
            lookups = RememberedLookups.from_lookups(self.lookups)
            for name, shelf in list(self._shelves.items()):
                if shelf.dataset_id == dataset_id:
                    self._reload_one(name, shelf, lookups)
            self._reloads_done[dataset_id] = turn

    def _reload_one(self, name: str, shelf: LoadedShelf, lookups: StoredLookups) -> None:
        """Build one shelf anew and swap it in. One that cannot be built keeps answering with what it has."""
        try:
            self._shelves[name] = self.load(shelf.spec, shelf.number, lookups=lookups)
        except OperationalError:
            raise
        except Exception:
            log.exception("shelf %s could not take in changed columns; it serves as before", name)

    def load(
        self, spec: ShelfSpec, number: int, *, new: bool = False, lookups: StoredLookups | None = None
    ) -> LoadedShelf:
        """Build a shelf and ask it for one list, so that a broken version is found before it is served. new: it is to
        be published, and must have something to list; later, columns may change until it has nothing. lookups: where
        its parts are looked up, for several shelves that are built together.

        Raises InputError or UnknownNameError naming what does not fit.
        """
        shelf = replace(build(self.parts(spec, lookups), number, self.version), observe=self.observe)
        for ranker in (shelf.model, shelf.fallback):
            if new:
                _require_candidates(ranker)
            ranker.fitted.train.items.make_ready()
        # all but what only a request brings is tried, and warm, before the first caller comes
        shelf.checked(RecommendRequest(user=shelf.model.fitted.train.users.id(0), n=1))
        shelf.checked(RecommendRequest(n=1))
        return shelf

    def parts(self, spec: ShelfSpec, lookups: StoredLookups | None = None) -> ShelfBuilder:
        """What the parts of a shelf are made of. Raises InputError or UnknownNameError."""
        return ShelfBuilder(lookups or self.lookups, spec, self._lookalikes)

    def tables(self, main: Fitted) -> ShelfTables:
        """The items and users that a model's shelf sees, and their dataset."""
        return self.lookups.tables(main)

    def version(self, reference: str) -> LoadedShelf:
        """A version of a shelf by its name, to be a source of another."""
        with self.engine.begin() as connection:
            version = shelves.get(connection, reference)
        return self.load(version.spec, version.number)


def _require_candidates(ranker: Eligible) -> None:
    """Raise InputError where a condition leaves nothing whoever asks; what depends on them is known when they ask."""
    masks = ranker.masks
    if masks is not None and not masks.fixed.any():
        text = f"the condition holds for none of the {len(masks.fixed):,} items of {ranker.fitted.name}"
        raise InputError(text, where="where")
