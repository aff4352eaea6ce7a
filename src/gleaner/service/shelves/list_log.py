"""Writes served lists to the database in batches, off the path of the answer."""

from __future__ import annotations

import logging
import queue
import threading
from datetime import UTC, datetime

import psycopg
from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError

from gleaner.serving.answer import Answer
from gleaner.store import served_lists
from gleaner.store.database.outages import is_unavailable
from gleaner.store.served_lists import ServedRow

BATCH = 500
GATHER_S = 0.05
"""How long lists are gathered before they are written: one transaction for many, and the answers keep the processor."""

WAITING_LIMIT = 50_000
ATTEMPTS = 5
log = logging.getLogger("gleaner.service")


class ListLog:
    """A bounded queue and one writing thread. While the database is away lists wait; beyond the bound the newest are
    dropped and counted, so that answers never wait for the log."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.dropped = 0
        self._waiting: queue.Queue[ServedRow | None] = queue.Queue(WAITING_LIMIT)
        self._hurry = threading.Event()
        self._thread = threading.Thread(target=self._write, name="list-log", daemon=True)
        self._thread.start()

    def add(self, entry: ServedRow) -> None:
        """Queue a list to be written."""
        try:
            self._waiting.put_nowait(entry)
        except queue.Full:
            self.dropped += 1

    def flush(self) -> None:
        """Wait until everything added so far is written."""
        self._hurry.set()
        self._waiting.join()
        self._hurry.clear()

    def close(self) -> None:
        """Write what waits and end."""
        self._hurry.set()
        self._waiting.put(None)
        self._thread.join(timeout=10)

    def _write(self) -> None:
        ending = False
        while not ending:
            batch = [self._waiting.get()]
            self._hurry.wait(GATHER_S)
            while len(batch) < BATCH and not self._waiting.empty():
                batch.append(self._waiting.get())
            ending = None in batch
            entries = [entry for entry in batch if entry is not None]
            try:
                self._write_batch(entries)
            except Exception:
                # the thread must outlive whatever one list holds
                self.dropped += len(entries)
                log.exception("%d served lists could not be logged", len(entries))
            finally:
                for _ in batch:
                    self._waiting.task_done()

    def _write_batch(self, entries: list[ServedRow]) -> None:
        """Write lists in one transaction; where one of them cannot be kept, the others one by one."""
        if not entries:
            return
        try:
            self._insert(entries)
        except Exception as error:
            log.warning("a batch of the list log failed (%s); writing its lists one by one", type(error).__name__)
            for entry in entries:
                self._write_one(entry)

    def _write_one(self, entry: ServedRow) -> None:
        try:
            self._insert([entry])
        except Exception:
            self.dropped += 1
            log.exception("the list %s of shelf %s could not be logged", entry.list_id, entry.shelf)

    def _insert(self, entries: list[ServedRow]) -> None:
        """Write lists in one transaction. While the database is away, try again a few times."""
        pause = threading.Event()
        for attempt in range(ATTEMPTS):
            try:
                with self.engine.begin() as connection:
                    served_lists.add_all(connection, entries)
                return
            except (SQLAlchemyError, psycopg.Error) as error:
                if attempt + 1 == ATTEMPTS or not is_unavailable(error):
                    raise
                log.warning("the list log could not be written (attempt %s)", attempt + 1)
                pause.wait(0.5 * 2**attempt)


def row_of(answer: Answer) -> ServedRow:
    """An answer as the list log keeps it."""
    return ServedRow(
        list_id=answer.list_id,
        shelf=answer.shelf,
        version=answer.version,
        user=answer.user,
        items=answer.places.items,
        fallback=answer.stand_in.fallback,
        at=datetime.now(UTC),
    )
