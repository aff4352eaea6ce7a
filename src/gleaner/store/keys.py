"""Keys: only the hash of a secret is kept."""

from __future__ import annotations

import hashlib
import secrets

from sqlalchemy import Connection, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from gleaner.core.errors import ConflictError, NotFoundError
from gleaner.store.tables import keys
from gleaner.wire.common import Page
from gleaner.wire.keys import Key, KeyRequest, NewKey, Scope

PREFIX = "glk_"


def hash_of(secret: str) -> str:
    """What is kept of a secret. Secrets are 256 random bits, so a plain hash is enough."""
    return hashlib.sha256(secret.encode()).hexdigest()


def create(connection: Connection, request: KeyRequest) -> NewKey:
    """Make a key. Raises ConflictError when the name is taken."""
    secret = PREFIX + secrets.token_urlsafe(32)
    values = {
        "name": request.name,
        "secret_sha256": hash_of(secret),
        "scopes": [scope.value for scope in sorted(set(request.scopes))],
    }
    try:
        with connection.begin_nested():
            row = connection.execute(insert(keys).values(values).returning(keys)).one()
    except IntegrityError as error:
        raise ConflictError(f"there is a key named {request.name!r} already", where="name") from error
    return NewKey(name=row.name, scopes=row.scopes, created_at=row.created_at, secret=secret)


def scopes_of(connection: Connection, secret: str) -> set[Scope] | None:
    """The scopes of a key that is not revoked, or None."""
    query = select(keys.c.scopes).where(keys.c.secret_sha256 == hash_of(secret), keys.c.revoked_at.is_(None))
    found = connection.scalar(query)
    return None if found is None else {Scope(scope) for scope in found}


def page(connection: Connection) -> Page[Key]:
    """All keys by name."""
    rows = connection.execute(select(keys).order_by(keys.c.name))
    found = [Key(name=r.name, scopes=r.scopes, created_at=r.created_at, revoked_at=r.revoked_at) for r in rows]
    return Page[Key](items=found)


def revoke(connection: Connection, name: str) -> Key:
    """End a key. Raises NotFoundError."""
    row = connection.execute(
        update(keys)
        .where(keys.c.name == name)
        .values(revoked_at=func.coalesce(keys.c.revoked_at, func.now()))
        .returning(keys)
    ).one_or_none()
    if row is None:
        raise NotFoundError(f"there is no key {name!r}", where="key")
    return Key(name=row.name, scopes=row.scopes, created_at=row.created_at, revoked_at=row.revoked_at)
