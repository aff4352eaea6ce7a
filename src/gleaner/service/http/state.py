"""What the service holds while it runs."""

from __future__ import annotations

import logging
import shutil
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated

import procrastinate
from fastapi import Depends, Request
from sqlalchemy import Connection, Engine

from gleaner.jobs.datasets.sources.places import AllowedPlaces, Purpose
from gleaner.jobs.models.model_cache import ModelCache
from gleaner.service.contests.kept_figures import KeptFigures
from gleaner.service.datasets.forgotten_users import ForgottenUsers
from gleaner.service.events.live import LiveEvents
from gleaner.service.http.service_metrics import ServiceMetrics
from gleaner.service.jobs.job_events import JobEvents
from gleaner.service.keys.auditing import record_write, writes
from gleaner.service.keys.key_ring import KeyRing
from gleaner.service.shelves.list_log import ListLog
from gleaner.service.shelves.refreshing import try_waiting
from gleaner.service.shelves.shelf_keeper import ShelfKeeper
from gleaner.settings import Settings
from gleaner.store.database.engine import make_engine
from gleaner.store.database.queue import deferring_app
from gleaner.store.files.artefacts import ArtefactStore
from gleaner.store.files.pins import Pins

log = logging.getLogger("gleaner.service")


@dataclass(eq=False)
class Service:
    """Connections, caches and background threads of one service process."""

    settings: Settings
    engine: Engine
    artefacts: ArtefactStore
    queue: procrastinate.App
    library: ModelCache
    keys: KeyRing
    live: LiveEvents
    shelves: ShelfKeeper
    lists: ListLog
    job_events: JobEvents
    forgotten_users: ForgottenUsers
    figures: KeptFigures = field(default_factory=KeptFigures)
    meters: ServiceMetrics = field(default_factory=ServiceMetrics)

    @classmethod
    def open(cls, settings: Settings) -> Service:
        """Set up from settings; the database may come later."""
        given: tuple[tuple[str, Purpose], ...] = ((settings.sources, "SOURCE"), (settings.targets, "TARGET"))
        for text, purpose in given:
            # a setting that cannot be read is an error at the start, and not for the first who imports
            AllowedPlaces.read(text, purpose)
        engine = make_engine(settings.require_database_url())
        artefacts = ArtefactStore(settings.artefact_root, settings.home / "cache", Pins(engine))
        library = ModelCache(engine, artefacts)
        live = LiveEvents(engine, settings.live_events)
        shelves = ShelfKeeper(engine, library, live)
        for folder in (settings.uploads, settings.staging):
            folder.mkdir(parents=True, exist_ok=True)
        for pattern in ("look-*", "query-*"):
            # what a service that was killed left of calls under way; others may be at work beside this one
            for left in settings.staging.glob(pattern):
                if not Path(f"/proc/{left.name.split('-')[1]}").exists():
                    shutil.rmtree(left, ignore_errors=True)
        service = cls(
            settings,
            engine,
            artefacts,
            deferring_app(),
            library,
            KeyRing(engine),
            live,
            shelves,
            ListLog(engine),
            JobEvents(),
            ForgottenUsers(engine, library, live, shelves),
        )
        service.shelves.observe = service.meters.observe_stages
        return service

    def begin(self) -> None:
        """Try what waits for a serving process, and look up what changed between loading the shelves and listening."""
        try_waiting(self.engine, self.shelves)
        self.shelves.forget_all()

    def look_again(self) -> None:
        """Look everything up afresh, after notices of other processes may have been missed."""
        self.keys.forget()
        self.forgotten_users.look()
        try_waiting(self.engine, self.shelves)
        self.shelves.forget_all()

    def close(self) -> None:
        """Write what waits, close the connections."""
        self.lists.close()
        self.engine.dispose()


def service_of(request: Request) -> Service:
    """The service a request is for."""
    return request.app.state.service


def _connection(request: Request) -> Iterator[Connection]:
    with service_of(request).engine.begin() as connection:
        yield connection
        if writes(request):
            record_write(connection, request)


async def _service(request: Request) -> Service:
    # async, so that no thread is woken to look up an attribute
    return service_of(request)


ServiceDep = Annotated[Service, Depends(_service)]
ConnectionDep = Annotated[Connection, Depends(_connection, scope="function")]
"""A connection in a transaction that commits before the answer goes out."""
