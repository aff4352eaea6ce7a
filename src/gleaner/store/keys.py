"""Keys: only the hash of a secret is kept."""

from __future__ import annotations

import hashlib
import secrets
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import Connection, Row, func, insert, or_, select, update
from sqlalchemy.exc import IntegrityError

from gleaner.core.errors import ConflictError, UnknownNameError
from gleaner.store.database.engine import notify
from gleaner.store.database.tables import keys
from gleaner.store.records.keys import IssuedKeyRecord, KeyRecord, KnownKey
from gleaner.store.records.pages import RecordPage
from gleaner.wire.keys import KeyRequest, Scope

PREFIX = "glk_"
CHANNEL = "gleaner_keys"


def hash_of(secret: str) -> str:
    """What is kept of a secret. Secrets are 256 random bits, so a plain hash is enough."""
    return hashlib.sha256(secret.encode()).hexdigest()


def create(connection: Connection, request: KeyRequest) -> IssuedKeyRecord:
    """Make a key. Raises ConflictError when the name is taken."""
    secret = PREFIX + secrets.token_urlsafe(32)
    ends = None if request.days is None else datetime.now(UTC) + timedelta(days=request.days)
    values = {
        "name": request.name,
        "secret_sha256": hash_of(secret),
        "scopes": [scope.value for scope in sorted(set(request.scopes))],
        "per_minute": request.per_minute,
        "expires_at": ends,
    }
    try:
        with connection.begin_nested():
            row = connection.execute(insert(keys).values(values).returning(keys)).one()
    except IntegrityError as error:
        raise ConflictError(f"there is a key named {request.name!r} already", where="name") from error
    return IssuedKeyRecord(**vars(_key(row)), secret=secret)


def known(connection: Connection, secret: str) -> KnownKey | None:
    """The key of a secret that is not revoked, or None; one that ended says so itself."""
    digest = hash_of(secret)
    query = select(keys).where(or_(keys.c.secret_sha256 == digest, keys.c.previous_sha256 == digest))
    row = connection.execute(query.where(keys.c.revoked_at.is_(None))).one_or_none()
    if row is None:
        return None
    return known_of(row, [row.expires_at] if row.secret_sha256 == digest else [row.expires_at, row.previous_until])


def known_of(row: Row[Any], ends: list[datetime | None]) -> KnownKey:
    """What a request needs to know of a row. ends: moments after which it does not open, the first of them counts."""
    first = min((moment for moment in ends if moment is not None), default=None)
    return KnownKey(row.name, frozenset(Scope(scope) for scope in row.scopes), row.per_minute, first)


def page(connection: Connection) -> RecordPage[KeyRecord]:
    """All keys by name."""
    rows = connection.execute(select(keys).order_by(keys.c.name))
    return RecordPage([_key(row) for row in rows])


def rotate(connection: Connection, name: str, grace: timedelta) -> IssuedKeyRecord:
    """Give a key a new secret; the one before opens for a while longer. Raises UnknownNameError or ConflictError."""
    row = connection.execute(select(keys).where(keys.c.name == name).with_for_update()).one_or_none()
    if row is None:
        raise UnknownNameError(f"there is no key {name!r}", where="key")
    if row.revoked_at is not None:
        raise ConflictError(f"the key {name!r} was revoked; make another", where="key")
    secret = PREFIX + secrets.token_urlsafe(32)
    values = {
        "secret_sha256": hash_of(secret),
        "previous_sha256": row.secret_sha256,
        "previous_until": datetime.now(UTC) + grace,
    }
    changed = connection.execute(update(keys).where(keys.c.id == row.id).values(values).returning(keys)).one()
    notify(connection, CHANNEL, name)
    return IssuedKeyRecord(**vars(_key(changed)), secret=secret)


def revoke(connection: Connection, name: str) -> KeyRecord:
    """End a key, and the secret before its last rotation. Raises UnknownNameError."""
    row = connection.execute(
        update(keys)
        .where(keys.c.name == name)
        .values(revoked_at=func.coalesce(keys.c.revoked_at, func.now()))
        .returning(keys)
    ).one_or_none()
    if row is None:
        raise UnknownNameError(f"there is no key {name!r}", where="key")
    notify(connection, CHANNEL, name)
    return _key(row)


def _key(row: Row[Any]) -> KeyRecord:
    return KeyRecord(
        name=row.name,
        scopes=[Scope(each) for each in row.scopes],
        created_at=row.created_at,
        revoked_at=row.revoked_at,
        expires_at=row.expires_at,
        per_minute=row.per_minute,
        previous_until=row.previous_until,
    )
