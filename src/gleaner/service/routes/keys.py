"""Keys."""

from __future__ import annotations

from fastapi import APIRouter

from gleaner.service.guard import ADMIN
from gleaner.service.routes.common import PROBLEMS
from gleaner.service.state import ConnectionDep
from gleaner.store import keys
from gleaner.wire.common import Page
from gleaner.wire.keys import Key, KeyRequest, NewKey

router = APIRouter(prefix="/v1", tags=["keys"], responses=PROBLEMS)


@router.post("/keys", dependencies=[ADMIN], status_code=201)
def create_key(body: KeyRequest, connection: ConnectionDep) -> NewKey:
    """Make a key. Its secret is in this answer and nowhere else."""
    return keys.create(connection, body)


@router.get("/keys", dependencies=[ADMIN])
def list_keys(connection: ConnectionDep) -> Page[Key]:
    """All keys, without their secrets."""
    return keys.page(connection)


@router.post("/keys/{name}/revoke", dependencies=[ADMIN])
def revoke_key(name: str, connection: ConnectionDep) -> Key:
    """End a key at once."""
    return keys.revoke(connection, name)
