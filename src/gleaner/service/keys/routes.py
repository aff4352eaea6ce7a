"""Keys."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import APIRouter, Query, Request

from gleaner.service.http.access import ADMIN
from gleaner.service.http.dependencies import DEFAULT_LIMIT, PROBLEMS, After, Limit, Named
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.service.keys.auditing import record_write
from gleaner.store import audit, keys
from gleaner.wire.common import Page
from gleaner.wire.keys import Key, KeyRequest, NewKey, RotateRequest, WriteEntry

router = APIRouter(prefix="/v1", tags=["keys"], responses=PROBLEMS, route_class=GuardedRoute)


@router.post("/keys", dependencies=[ADMIN], status_code=201)
def create_key(body: KeyRequest, connection: ConnectionDep) -> NewKey:
    """Make a key. Its secret is in this answer and nowhere else."""
    return NewKey.of_record(keys.create(connection, body))


@router.get("/keys", dependencies=[ADMIN])
def list_keys(connection: ConnectionDep) -> Page[Key]:
    """All keys, without their secrets."""
    return Page[Key].of_record(keys.page(connection))


@router.post("/keys/{name}/rotate", dependencies=[ADMIN])
def rotate_key(name: Named, body: RotateRequest, request: Request, service: ServiceDep) -> NewKey:
    """Give a key a new secret. The one before opens for a while longer, so that callers can be changed one by one."""
    with service.engine.begin() as connection:
        rotated = keys.rotate(connection, name, timedelta(minutes=body.grace_minutes))
        record_write(connection, request)
    # other processes hear of it; in this one no call after this answer may meet what was
    service.keys.forget()
    return NewKey.of_record(rotated)


@router.get("/audit", dependencies=[ADMIN])
def list_writes(
    connection: ConnectionDep,
    key: Annotated[str | None, Query(max_length=200, description="Of this key alone.")] = None,
    after: After = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[WriteEntry]:
    """What was written, by which key, newest first."""
    return Page[WriteEntry].of_record(audit.page(connection, after=after, limit=limit, key=key))


@router.post("/keys/{name}/revoke", dependencies=[ADMIN])
def revoke_key(name: Named, request: Request, service: ServiceDep) -> Key:
    """End a key at once."""
    with service.engine.begin() as connection:
        ended = keys.revoke(connection, name)
        record_write(connection, request)
    service.keys.forget()
    return Key.of_record(ended)
