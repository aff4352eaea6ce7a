"""What several routers share."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Annotated, Any, TypeVar

from fastapi import Depends, Header, Path, Query, Request, Response
from pydantic import BaseModel
from sqlalchemy import Connection

from gleaner.store import idempotency
from gleaner.store.database.pages import PAGE
from gleaner.wire.common import Problem

PRINTABLE = r"^[^\u0000-\u001f\u007f]+$"
"""Text without control characters, which no name or id has and no database keeps."""

MOST_NUMBER = 2**31 - 1
Named = Annotated[str, Path(max_length=200, pattern=PRINTABLE, examples=["seeds"])]
"""A name in a path: of a dataset, run, model, shelf or key, with a number or without."""

IdInPath = Annotated[str, Path(max_length=1000, pattern=PRINTABLE)]
"""An id of a user or an item in a path."""

JobNumber = Annotated[int, Path(ge=1, le=2**63 - 1)]
VersionNumber = Annotated[int, Path(ge=1, le=MOST_NUMBER)]
Reference = Annotated[str | None, Query(max_length=200, pattern=PRINTABLE)]
"""A name in a query."""

After = Annotated[
    str | None,
    Query(max_length=2000, pattern=r"^[A-Za-z0-9_-]*$", description="Cursor: the `next` of the page before."),
]
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
        (400, "`bad-request`: the call cannot be read"),
        (401, "`denied`: no key, or an unknown one"),
        (403, "`denied`: the key lacks the scope, or a page of another site asks"),
        (404, "`not-found`: nothing of that name"),
        (409, "`conflict`: that cannot be done as things stand"),
        (413, "`too-large`: the body is larger than is taken"),
        (414, "`too-large`: the path or query is longer than is taken"),
        (422, "`input`: what was given is wrong; `errors` names every field"),
        (429, "`too-many`: more calls than the key may make, with Retry-After"),
        (503, "`unavailable`: something the answer needs is not there for the moment, with Retry-After"),
    )
}
T = TypeVar("T", bound=BaseModel)


async def _caller(request: Request) -> str:
    """Return the name of the key that let a call in; "" where none is needed."""
    return getattr(request.state, "key_name", None) or ""


Caller = Annotated[str, Depends(_caller)]
"""Whose Idempotency-Key it is: two callers may send the same one."""


def answer_once(
    connection: Connection,
    caller: Caller,
    key: str | None,
    request: str,
    response: Response,
    status: int,
    make: Callable[[], T],
) -> T | Response:
    """Make an answer, or give the one that the caller was given before for the same Idempotency-Key."""
    response.status_code = status
    if key is None:
        return make()
    before = idempotency.recall(connection, caller, key, request)
    if before is not None:
        return Response(json.dumps(before[1]), before[0], {"Idempotency-Replayed": "true"}, "application/json")
    answer = make()
    idempotency.remember(connection, caller, key, request, status, answer.model_dump(mode="json"))
    return answer
