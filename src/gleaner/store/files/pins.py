"""Hold files in place between the moment they are written and the moment a row refers to them.

Whoever puts a file holds a shared lock on its hash until the process ends. Whoever removes one needs the exclusive
lock, and looks once more whether a row exists. So a file that is put again while its last reference goes is either
written anew or not removed. Locks are PostgreSQL's, so they hold across machines, and a crash releases them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

import psycopg
from sqlalchemy import Connection, Engine, select, text

from gleaner.store.database.tables import artefacts

BACKUP_KEY = 7_316_043
"""The lock that whoever removes a file shares, and a backup holds alone."""


@contextmanager
def removals_held(url: str) -> Iterator[None]:
    """Keep every file in place. Wait for removals that are under way; files that were to go stay until a sweep."""
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("SELECT pg_advisory_lock(%s)", [BACKUP_KEY])
        yield


class Pins:
    """The locks of one process."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._connection: Connection | None = None
        self._held: set[str] = set()

    def hold(self, digest: str) -> None:
        """Keep a file from being removed until this process ends. Wait for a removal that is under way."""
        if digest in self._held:
            return
        if self._connection is None:
            self._connection = self.engine.connect().execution_options(isolation_level="AUTOCOMMIT")
        self._connection.execute(text("SELECT pg_advisory_lock_shared(:key)"), {"key": _key(digest)})
        self._held.add(digest)

    def close(self) -> None:
        """Let go of every file."""
        if self._connection is not None:
            self._connection.invalidate()
            self._connection.close()
        self._connection = None
        self._held.clear()

    def remove_unused(self, digest: str, remove: Callable[[], None]) -> bool:
        """Call `remove` unless somebody holds the file, a backup runs, or a row names it. Return whether it did."""
        with self.engine.begin() as connection:
            not_held = text("SELECT pg_try_advisory_xact_lock_shared(:backup) AND pg_try_advisory_xact_lock(:key)")
            if not connection.scalar(not_held, {"backup": BACKUP_KEY, "key": _key(digest)}):
                return False
            if connection.scalar(select(artefacts.c.sha256).where(artefacts.c.sha256 == digest)) is not None:
                return False
            remove()
            return True


def _key(digest: str) -> int:
    """The number of a file's lock: 60 bits of its hash."""
    return int(digest[:15], 16)
