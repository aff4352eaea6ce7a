"""What several routers share."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Annotated, Any, TypeVar

from fastapi import Header, Query, Response
from pydantic import BaseModel
from sqlalchemy import Connection

from gleaner.store import idempotency
from gleaner.store.names import PAGE
from gleaner.wire.common import Problem

After = Annotated[str | None, Query(description="Cursor: the `next` of the page before.")]
Limit = Annotated[int, Query(ge=1, le=500, description="Rows of one page.")]
IdempotencyKey = Annotated[
    str | None,
    Header(
        alias="Idempotency-Key",
        max_length=200,
        description="Send the same key with a repeat: it then does nothing again.",
    ),
]
TraceParent = Annotated[str | None, Header(max_length=200, description="W3C trace context, kept with the job.")]
DEFAULT_LIMIT = PAGE

PROBLEMS: dict[int | str, dict[str, Any]] = {
    code: {"model": Problem, "content": {"application/problem+json": {}}, "description": text}
    for code, text in (
        (401, "No key or an unknown one"),
        (404, "Nothing of that name"),
        (422, "What was given is wrong"),
    )
}
T = TypeVar("T", bound=BaseModel)


def once(
    connection: Connection,
    key: str | None,
    request: str,
    response: Response,
    status: int,
    make: Callable[[], T],
) -> T | Response:
    """Make an answer, or give the one that was given before to the same Idempotency-Key."""
    response.status_code = status
    if key is None:
        return make()
    before = idempotency.recall(connection, key, request)
    if before is not None:
        return Response(json.dumps(before[1]), before[0], {"Idempotency-Replayed": "true"}, "application/json")
    made = make()
    idempotency.remember(connection, key, request, status, made.model_dump(mode="json"))
    return made
