"""Sessions of the console: a key that signed in, under a token of which only the hash is kept."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection, delete, insert, select

from gleaner.store.database.engine import notify
from gleaner.store.database.tables import keys, sessions
from gleaner.store.keys import CHANNEL, hash_of, known_of
from gleaner.store.records.keys import KnownKey

PREFIX = "gls_"
LASTS = timedelta(hours=12)


def begin(connection: Connection, secret: str) -> tuple[str, str] | None:
    """A token for the key of a secret that opens now, and the key's name; or None. Sessions that have ended go."""
    digest, now = hash_of(secret), datetime.now(UTC)
    connection.execute(delete(sessions).where(sessions.c.ends_at < now))
    mine = (keys.c.secret_sha256 == digest) | ((keys.c.previous_sha256 == digest) & (keys.c.previous_until > now))
    opens = keys.c.revoked_at.is_(None) & (keys.c.expires_at.is_(None) | (keys.c.expires_at > now))
    row = connection.execute(select(keys.c.id, keys.c.name).where(mine, opens)).one_or_none()
    if row is None:
        return None
    token = PREFIX + secrets.token_urlsafe(32)
    connection.execute(
        insert(sessions).values(token_sha256=hash_of(token), key_id=row.id, ends_at=now + LASTS, secret_sha256=digest)
    )
    return token, row.name


def known(connection: Connection, token: str) -> KnownKey | None:
    """The key that signed in under a token, unless it was revoked, or the secret that opened the session changed; one
    that ended says so itself. A secret that opens for a while after a rotation keeps its sessions as long."""
    opened_by = sessions.c.secret_sha256
    query = select(keys, sessions.c.ends_at, opened_by.label("opened_by"))
    query = query.join(sessions, sessions.c.key_id == keys.c.id)
    query = query.where(sessions.c.token_sha256 == hash_of(token), keys.c.revoked_at.is_(None))
    query = query.where((keys.c.secret_sha256 == opened_by) | (keys.c.previous_sha256 == opened_by))
    row = connection.execute(query).one_or_none()
    if row is None:
        return None
    ends = [row.expires_at, row.ends_at] + ([] if row.opened_by == row.secret_sha256 else [row.previous_until])
    return known_of(row, ends)


def end(connection: Connection, token: str) -> None:
    """Sign out; every serving process is notified."""
    connection.execute(delete(sessions).where(sessions.c.token_sha256 == hash_of(token)))
    notify(connection, CHANNEL, "")
