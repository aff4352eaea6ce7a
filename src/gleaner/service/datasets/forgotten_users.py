"""Users that were forgotten leave the memory of every serving process, whether it heard of it or not."""

from __future__ import annotations

import threading
from collections.abc import Callable

from sqlalchemy import Engine

from gleaner.jobs.models.model_cache import ModelCache
from gleaner.service.events.live import LiveEvents
from gleaner.service.shelves.shelf_keeper import ShelfKeeper
from gleaner.store import events


class ForgottenUsers:
    """Looks, now and then and whenever it listens again, whether somebody was forgotten since it last looked.

    also: what else lets go of people then.
    """

    def __init__(self, engine: Engine, library: ModelCache, live: LiveEvents, shelves: ShelfKeeper) -> None:
        self.engine, self.library, self.live, self.shelves = engine, library, live, shelves
        self.also: list[Callable[[], object]] = []
        self._seen: dict[int, int] = {}
        self._lock = threading.Lock()

    def look(self) -> None:
        """Let go of whatever may hold somebody who was forgotten since the last look."""
        with self._lock:
            with self.engine.begin() as connection:
                now = events.times_forgotten(connection)
            changed = [dataset for dataset, times in now.items() if times != self._seen.get(dataset, 0)]
            for dataset_id in changed:
                self.live.forget_missing(dataset_id)
            if changed:
                self.library.let_go()
                for let_go in self.also:
                    let_go()
            for dataset_id in changed:
                # what a shelf holds of people it serves goes with the shelf as it was
                self.shelves.reload(dataset_id)
            self._seen = now
