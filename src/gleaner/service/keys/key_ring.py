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

from gleaner.service.http.problems import AccessDeniedError, TooManyError
from gleaner.store import keys, sessions
from gleaner.store.records.keys import KnownKey
from gleaner.wire.keys import SESSION_COOKIE

FRESH_S = 60.0
"""Other processes hear of a changed key at once; this bounds what a lost notice could cost."""

WITHOUT_DATABASE_S = 3600.0
"""How long a key that was good goes on while the database is away."""

MOST = 10_000
WRONG_A_MINUTE = 60
"""Unknown secrets that one address may send."""


@dataclass
class TokenBucket:
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


@dataclass(frozen=True)
class Credential:
    """What a request brings to be let in: the secret of a key, or the token of a session from a cookie."""

    secret: str
    is_session: bool

    @property
    def digest(self) -> str:
        """What it is known by: a secret is no token and a token no secret, whatever their letters."""
        return ("session " if self.is_session else "") + keys.hash_of(self.secret)


class KeyRing:
    """The keys met lately, by the hash of their secret. Limits hold for one process each."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self._known: dict[str, tuple[float, KnownKey]] = {}
        self._buckets: dict[str, TokenBucket] = {}
        self._wrong: dict[str, TokenBucket] = {}
        self._changes = 0
        self._lock = threading.Lock()

    @staticmethod
    def sent_with(request: Request) -> Credential | None:
        """The secret, or the token of a session, that a request brings; None where it brings none. A secret in the
        header counts more: who sends one does not mean the browser's. Each opens only where it belongs: a session's
        token is no key for a program, and a key in a cookie no session."""
        kind, _, secret = request.headers.get("authorization", "").partition(" ")
        if kind.lower() == "bearer":
            return Credential(secret.strip(), is_session=False)
        token = request.cookies.get(SESSION_COOKIE, "")
        return Credential(token, is_session=True) if token else None

    def known_lately(self, sent: Credential) -> KnownKey | None:
        """A key that was looked up lately; None where it must be looked up."""
        key = self._known.get(sent.digest)
        return key[1] if key is not None and time.monotonic() - key[0] < FRESH_S else None

    def find(self, sent: Credential, address: str = "") -> KnownKey:
        """Return the key of a secret.

        The secret is looked up first, so that wrong ones from an address keep nobody out who has a right one.

        Raises AccessDeniedError for a secret that is unknown, revoked or ended, TooManyError where the address sent
        many such.
        """
        key = self.known_lately(sent)
        if key is None:
            try:
                key = self._looked_up(sent)
            except AccessDeniedError:
                self.refuse_wrong(address)
                raise
        if key.ends_at is not None and key.ends_at <= datetime.now(UTC):
            what = "session of" if sent.is_session else "key"
            raise AccessDeniedError(f"the {what} {key.name!r} ended on {key.ends_at:%Y-%m-%d %H:%M} UTC", 401)
        return key

    def refuse_wrong(self, address: str) -> None:
        """Count a secret that opened nothing. Raise TooManyError for an address that sent many."""
        with self._lock:
            bucket = self._wrong.get(address)
            if bucket is None:
                while len(self._wrong) >= MOST:
                    self._wrong.pop(next(iter(self._wrong)))
                bucket = self._wrong[address] = TokenBucket(WRONG_A_MINUTE)
            wait = bucket.take(time.monotonic())
        if wait:
            raise TooManyError("too many unknown keys came from your address", wait)

    def _looked_up(self, sent: Credential) -> KnownKey:
        digest, is_session, changes = sent.digest, sent.is_session, self._changes
        try:
            with self.engine.begin() as connection:
                known = sessions.known if is_session else keys.known
                key = known(connection, sent.secret)
        except (OperationalError, psycopg.OperationalError):
            before = self._known.get(digest)
            if before is None or time.monotonic() - before[0] > WITHOUT_DATABASE_S:
                raise
            return before[1]
        if key is None:
            self._known.pop(digest, None)
            what = "this session is over, or its key" if is_session else "this key is unknown or"
            raise AccessDeniedError(f"{what} was revoked", 401)
        with self._lock:
            if len(self._known) >= MOST:
                self._known.clear()
            if changes == self._changes:
                # else a key was changed, perhaps this one, after it was looked up
                self._known[digest] = time.monotonic(), key
        return key

    def count(self, key: KnownKey) -> None:
        """Count a call. Raises TooManyError beyond the key's limit."""
        if key.per_minute is None:
            return
        with self._lock:
            bucket = self._buckets.get(key.name)
            if bucket is None or bucket.per_minute != key.per_minute:
                bucket = self._buckets[key.name] = TokenBucket(key.per_minute)
            wait = bucket.take(time.monotonic())
        if wait:
            raise TooManyError(f"the key {key.name!r} may make {key.per_minute:,} calls a minute", wait)

    def forget(self, _: str = "") -> None:
        """Look every key up again: one was changed."""
        with self._lock:
            self._changes += 1
            self._known.clear()
