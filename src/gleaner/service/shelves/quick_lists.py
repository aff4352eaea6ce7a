"""The most called route, answered in front of the application's general machinery where a call is of the usual form."""

from __future__ import annotations

import logging
import time
from functools import lru_cache
from random import getrandbits
from urllib.parse import parse_qsl

from anyio import CapacityLimiter, to_thread
from fastapi import FastAPI
from prometheus_client import Counter
from pydantic import ValidationError
from pydantic_core import to_json
from sqlalchemy.exc import SQLAlchemyError
from starlette.requests import Request
from starlette.types import ASGIApp, Receive, Scope, Send

from gleaner.core.errors import GleanerError
from gleaner.service.http.access import allow, allows_anyone
from gleaner.service.http.service_metrics import ServiceMetrics
from gleaner.service.http.state import Service
from gleaner.service.shelves.list_log import row_of
from gleaner.serving.answer import Answer
from gleaner.serving.shelf import LoadedShelf
from gleaner.wire.keys import Scope as KeyScope
from gleaner.wire.shelves.shelf import RecommendRequest

ROUTE = "/v1/shelves/{shelf}/recommendations"
BEFORE, AFTER = ROUTE.split("{shelf}")
log = logging.getLogger("gleaner.service")
MAX_QUICK_QUERY = 400
"""Bytes of a query that is read at a glance and kept."""

UNUSUAL = {b"traceparent", b"content-length", b"transfer-encoding"}


class QuickLists:
    """Reads `GET /v1/shelves/{shelf}/recommendations?user=&n=` at a glance; passes every other call on, mistakes too.

    Both ways end in `list_body`, which makes the list. A call with other parameters, a wrong one, an unknown shelf, a
    caller who may not: whatever is not plainly an answer is left to the application, the one place that says no.
    """

    def __init__(self, app: FastAPI) -> None:
        self.app: ASGIApp = app
        self.service: Service = app.state.service
        self._counted = self.service.meters.requests.labels("GET", ROUTE, 200)
        self.service.forgotten_users.also.append(usual_request.cache_clear)
        self._timed = self.service.meters.seconds.labels(ROUTE)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request."""
        begun = time.perf_counter()
        body = await self._body(scope) if scope["type"] == "http" and scope["method"] == "GET" else None
        if body is None:
            await self.app(scope, receive, send)
            return
        headers = [
            (b"content-type", b"application/json"),
            (b"content-length", str(len(body)).encode()),
            (b"x-request-id", b"%016x" % getrandbits(64)),
            (b"x-content-type-options", b"nosniff"),
        ]
        await send({"type": "http.response.start", "status": 200, "headers": headers})
        await send({"type": "http.response.body", "body": body})
        self._counted.inc()
        self._timed.observe(time.perf_counter() - begun)

    async def _body(self, scope: Scope) -> bytes | None:
        """The list asked for, or None for what is left to the application."""
        path: str = scope["path"]
        if not (path.startswith(BEFORE) and path.endswith(AFTER)):
            return None
        query = scope["query_string"]
        request = usual_request(query) if len(query) <= MAX_QUICK_QUERY else None
        if request is None or any(name in UNUSUAL for name, _ in scope["headers"]):
            return None
        try:
            if not allows_anyone(scope["headers"], self.service):
                await allow(Request(scope), self.service, (KeyScope.SERVE,))
            return await list_body(self.service, path[len(BEFORE) : -len(AFTER)], request)
        except (GleanerError, SQLAlchemyError):
            # a refusal, or a database that is gone: the application meets the same and says it in the documented way
            return None
        except Exception:
            log.exception("a list could not be made on the quick path; the application answers instead")
            return None


@lru_cache(maxsize=4096)
def usual_request(query: bytes) -> RecommendRequest | None:
    """What a query of the usual form asks for; None for any other. Never changed: many calls share it."""
    pairs = parse_qsl(query.decode("latin-1"), keep_blank_values=True)
    given = dict(pairs)
    user, n = given.pop("user", None), given.pop("n", "10")
    if given or len(pairs) > 2 or not (n.isascii() and n.isdigit() and len(n) < 5):
        return None
    try:
        return RecommendRequest(user=user, n=int(n))
    except ValidationError:
        # the application says what is wrong with it
        return None


LISTS = CapacityLimiter(8)
"""Threads that make lists: of their own, so that other calls, however long they take, never hold up a list."""

QUICK_N, QUICK_RECENT = 100, 50
"""Positions, and items named in the request, up to which a list takes less than waking a thread."""

EXPLANATIONS = CapacityLimiter(2)
"""Threads that make lists with reasons."""

CONDITIONS = CapacityLimiter(2)
"""Threads that work out the conditions of requests: who sends many waits for themselves, and not others for them."""


async def list_body(service: Service, name: str, request: RecommendRequest) -> bytes:
    """Return a shelf's list as the body that goes out, recorded unless the request says otherwise.

    Raises UnknownNameError or InputError.
    """
    shelf = service.shelves.loaded(name)
    if shelf is None:
        shelf = await to_thread.run_sync(service.shelves.get, name)
    if request.record:
        count_absent(service.meters, shelf, request)
    return body_of(service, await list_of(shelf, request), record=request.record)


async def list_of(shelf: LoadedShelf, request: RecommendRequest) -> Answer:
    """Return a shelf's list. One that takes less than waking a thread is made here; a longer one must hold up nobody.

    Conditions of requests, whose masks have to be computed, and explanations have threads of their own.
    """
    if request.explain:
        return await to_thread.run_sync(shelf.answer, request, limiter=EXPLANATIONS)
    if request.where is not None:
        return await to_thread.run_sync(shelf.answer, request, limiter=CONDITIONS)
    is_small = request.n <= QUICK_N and len(request.recent) <= QUICK_RECENT and not request.candidates
    if shelf.is_quick and is_small:
        return shelf.answer(request)
    return await to_thread.run_sync(shelf.answer, request, limiter=LISTS)


@lru_cache(maxsize=1024)
def listed(meters: ServiceMetrics, shelf: str, fallback: str) -> Counter:
    """The counter of a shelf's lists; finding it by its labels costs as much as counting."""
    return meters.lists.labels(shelf, fallback)


def count_absent(meters: ServiceMetrics, shelf: LoadedShelf, request: RecommendRequest) -> None:
    """Count the columns of the context that the shelf's model looks at and the request does not give: each counts as
    missing."""
    for name in shelf.context_columns:
        if name not in request.context:
            meters.absent_context.labels(shelf.spec.shelf, name).inc()


def body_of(service: Service, answer: Answer, *, record: bool) -> bytes:
    """Return an answer as the body that goes out. record: keep it in the log of served lists, and count it."""
    if not record:
        return to_json(answer.fields())
    service.lists.add(row_of(answer))
    fallback = answer.stand_in.fallback
    listed(service.meters, answer.shelf, "none" if fallback is None else fallback.partition(":")[0]).inc()
    return to_json(answer.fields())
