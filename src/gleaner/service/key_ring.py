"""Keys as requests meet them: looked up once, kept in memory, and let go of when they change."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field
from datetime import UTC, datetime

import psycopg
from fastapi import Request
from sqlalchemy import Engine
from sqlalchemy.exc import OperationalError

from gleaner.service.problems import DeniedError, TooManyError
from gleaner.store import keys, sessions
from gleaner.store.keys import KnownKey
from gleaner.wire.keys import SESSION_COOKIE

FRESH_S = 60.0
"""A key that is changed is told of at once; this bounds what a lost telling could cost."""

WITHOUT_DATABASE_S = 3600.0
"""How long a key that was good goes on while the database is away."""

MOST = 10_000


@dataclass
class Bucket:
    """So many calls a minute, all of which may come at once after a quiet minute."""

    per_minute: int
    left: float = 0.0
    at: float = field(default_factory=time.monotonic)

    def __post_init__(self) -> None:
        self.left = float(self.per_minute)

    def take(self, now: float) -> float:
        """Take one; answers 0, or the seconds until there is one."""
        self.left = min(self.per_minute, self.left + (now - self.at) * self.per_minute / 60)
        self.at = now
        if self.left < 1:
            return (1 - self.left) * 60 / self.per_minute
        self.left -= 1
        return 0.0


class KeyRing:
    """The keys met lately, by the hash of their secret. Limits hold for one process each."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._held: dict[str, tuple[float, KnownKey]] = {}
        self._buckets: dict[str, Bucket] = {}
        self._lock = threading.Lock()

    @staticmethod
    def sent_with(request: Request) -> str:
        """The secret, or the token of a session, that a request brings; nothing where it brings none. A secret in the
        header counts more: who sends one does not mean the browser's."""
        kind, _, secret = request.headers.get("authorization", "").partition(" ")
        return secret.strip() if kind.lower() == "bearer" else request.cookies.get(SESSION_COOKIE, "")

    def held(self, secret: str) -> KnownKey | None:
        """A key that was looked up lately; None where it must be looked up."""
        found = self._held.get(keys.hash_of(secret))
        return found[1] if found is not None and time.monotonic() - found[0] < FRESH_S else None

    def find(self, secret: str) -> KnownKey:
        """The key of a secret. Raises DeniedError for one that is unknown, revoked or ended."""
        found = self.held(secret) or self._looked_up(secret)
        if found.ends_at is not None and found.ends_at <= datetime.now(UTC):
            what = "session of" if secret.startswith(sessions.PREFIX) else "key"
            raise DeniedError(f"the {what} {found.name!r} ended on {found.ends_at:%Y-%m-%d %H:%M} UTC", 401)
        return found

    def _looked_up(self, secret: str) -> KnownKey:
        digest = keys.hash_of(secret)
        try:
            with self.engine.begin() as connection:
                is_session = secret.startswith(sessions.PREFIX)
                found = sessions.known(connection, secret) if is_session else keys.known(connection, secret)
        except (OperationalError, psycopg.OperationalError):
            before = self._held.get(digest)
            if before is None or time.monotonic() - before[0] > WITHOUT_DATABASE_S:
                raise
            return before[1]
        if found is None:
            self._held.pop(digest, None)
            what = "this session is over, or its key" if is_session else "this key is unknown or"
            raise DeniedError(f"{what} was revoked", 401)
        with self._lock:
            if len(self._held) >= MOST:
                self._held.clear()
            self._held[digest] = time.monotonic(), found
        return found

    def count(self, key: KnownKey) -> None:
        """Count a call. Raises TooManyError beyond the key's limit."""
        if key.per_minute is None:
            return
        with self._lock:
            bucket = self._buckets.get(key.name)
            if bucket is None or bucket.per_minute != key.per_minute:
                bucket = self._buckets[key.name] = Bucket(key.per_minute)
            wait = bucket.take(time.monotonic())
        if wait:
            raise TooManyError(f"the key {key.name!r} may make {key.per_minute:,} calls a minute", wait)

    def forget(self, _: str = "") -> None:
        """Look every key up again: one was changed."""
        self._held.clear()
