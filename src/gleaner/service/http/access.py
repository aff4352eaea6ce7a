"""Who may do what, and what every request carries."""

from __future__ import annotations

import logging
import re
import secrets
import time
from collections.abc import Awaitable, Callable, Sequence
from functools import lru_cache
from typing import Annotated
from urllib.parse import urlsplit

from anyio import to_thread
from fastapi import Depends, Request
from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from gleaner import logs
from gleaner.service.http.callers import FORWARDING_BYTES, address_of, forwarded_by
from gleaner.service.http.problems import PREFIX, AccessDeniedError, TooLargeError, answer
from gleaner.service.http.state import Service, service_of
from gleaner.service.keys.key_ring import Credential
from gleaner.settings import LOOPBACK_HOSTS
from gleaner.wire.common import Problem
from gleaner.wire.keys import Scope as KeyScope

log = logging.getLogger("gleaner.service")
SLOW_S = 1.0
"""Calls that take longer are logged, as are those that write and those that fail."""

Scopes = tuple[KeyScope, ...]
OWN_PAGES = ("none", "same-origin")
LOOKED_AT = FORWARDING_BYTES | {b"authorization", b"sec-fetch-site"}
"""Headers that may let a call in, or keep it out."""

SAFE_METHODS = ("GET", "HEAD", "OPTIONS")
UPLOAD_PATH, SESSION_PATH = "/v1/uploads", "/v1/session"
SESSION_BYTES = 1024
"""Largest body of a call to sign in, which anybody may make."""

MAX_HOST = 300
MOST_PATH, MOST_QUERY = 4000, 16_000
DISGUISED = re.compile(r"(?:^|/)(?:\.|%2e){1,2}(?:[;\\][^/]*|%(?:2f|5c)[^/]*)?(?=/|$)", re.IGNORECASE)
"""A segment of one or two dots, also with a parameter, a backslash, or encoded twice: proxies read it differently."""

CONTROL = re.compile(r"[\x00-\x1f\x7f]")


def require_scope(*scopes: KeyScope) -> Callable[[Request], Awaitable[None]]:
    """A dependency that lets a request pass only with one of these scopes; with any valid key where none is named."""

    async def check(request: Request) -> None:
        await allow(request, service_of(request), scopes)

    check.scopes = scopes  # type: ignore[attr-defined]
    return check


async def allow(request: Request, service: Service, scopes: Scopes) -> None:
    """Raise DeniedError unless the caller has one of the scopes, TooManyError beyond the limit of their key."""
    sent = credential_of(request, service)
    if sent is not None and service.keys.known_lately(sent) is None:
        await to_thread.run_sync(_check, request, service, scopes)
    else:
        # nothing is looked up, so no thread is woken
        _check(request, service, scopes)


def allows_anyone(headers: list[tuple[bytes, bytes]], service: Service) -> bool:
    """Whether a GET with these headers is answered without a key, seen from the headers alone. False leaves it to
    `allow`."""
    if service.settings.keys_required:
        return False
    hosts = [value for name, value in headers if name == b"host"]
    looked_at = any(name in LOOKED_AT for name, _ in headers)
    return not looked_at and len(hosts) == 1 and _hostname(hosts[0].decode("latin-1")) in LOOPBACK_HOSTS


def scopes_of_route(dependencies: Sequence[object]) -> Scopes | None:
    """The scopes of which a route asks for one, read off its dependencies; none where any key will do. None: no key is
    asked for."""
    return next((d.call.scopes for d in dependencies if hasattr(getattr(d, "call", None), "scopes")), None)  # type: ignore[attr-defined]


SERVE, EVENTS = Depends(require_scope(KeyScope.SERVE)), Depends(require_scope(KeyScope.EVENTS))
METRICS = Depends(require_scope(KeyScope.METRICS, KeyScope.BUILD))
BUILD, ADMIN = Depends(require_scope(KeyScope.BUILD)), Depends(require_scope(KeyScope.ADMIN))
ANY_KEY = Depends(require_scope())


def is_admin(request: Request) -> bool:
    """Return whether the caller may do everything: by a key with the scope admin, or no key if none is needed."""
    return _has(request, KeyScope.ADMIN)


def is_builder(request: Request) -> bool:
    """Return whether the caller may look at data: by a key with the scope build, or no key if none is needed."""
    return _has(request, KeyScope.BUILD)


def _has(request: Request, scope: KeyScope) -> bool:
    try:
        _check(request, service_of(request), (scope,))
    except AccessDeniedError:
        return False
    return True


AdminDep = Annotated[bool, Depends(is_admin)]


def credential_of(request: Request, service: Service) -> Credential | None:
    """The key or session that counts: where no key is needed, one that a browser still holds is not looked at."""
    sent = service.keys.sent_with(request)
    return None if sent is not None and sent.is_session and not service.settings.keys_required else sent


def _check(request: Request, service: Service, scopes: Scopes) -> None:
    address = request.state.address = address_of(request, service.settings)
    if (sent := credential_of(request, service)) is not None:
        key = service.keys.find(sent, address)
        if sent.is_session:
            require = require_own_page if request.method in SAFE_METHODS else require_same_origin
            require(request)
        if scopes and not key.scopes & {*scopes, KeyScope.ADMIN}:
            wanted = " or ".join(each.value for each in scopes)
            raise AccessDeniedError(
                f"this call needs a key with the scope {wanted}; yours has: {', '.join(sorted(key.scopes))}",
                403,
            )
        if not getattr(request.state, "key_name", None):
            service.keys.count(key)
        request.state.key_name = key.name
        return
    if service.settings.keys_required:
        raise AccessDeniedError(
            "this call needs a key: send `Authorization: Bearer ...`, set GLEANER_KEY, or sign in at the console", 401
        )
    _require_local(request)


def require_same_origin(request: Request) -> None:
    """Raise DeniedError for a write that a browser did not send from a page of this service."""
    origin = request.headers.get("origin")
    if origin is not None and urlsplit(origin).netloc != request.headers.get("host"):
        raise AccessDeniedError(f"a page of {origin!r} may not write here", 403)
    if origin is None and request.headers.get("sec-fetch-site", "same-origin") != "same-origin":
        raise AccessDeniedError("a page of another site may not write here", 403)


def require_own_page(request: Request) -> None:
    """Raise DeniedError for a call that a browser makes for a page of another site: it could not read the answer, but
    learns how long it takes and how large it is."""
    if request.headers.get("sec-fetch-site", "none") not in OWN_PAGES:
        raise AccessDeniedError("a page of another site may not read here", 403)


def _require_local(request: Request) -> None:
    """Without a key only a caller on this machine who meant this service passes.

    The Host header stops a page of another site that had its name point at loopback; the Origin header stops it from
    sending writes across, and Sec-Fetch-Site from reading. A call that a proxy passed on may come from anywhere.
    """
    if (header := forwarded_by(request)) is not None:
        raise AccessDeniedError(
            f"this call came through a proxy (it has the header {header}), and who sent it is not known: start the "
            "service with GLEANER_AUTH=required, and send a key",
            401,
        )
    require_own_page(request)
    given = request.headers.get("host")
    host = (request.url.hostname or "") if given is None else _hostname(given)
    if host not in LOOPBACK_HOSTS:
        raise AccessDeniedError(f"without a key this service answers on loopback names only, not on {host!r}", 401)
    origin = request.headers.get("origin")
    if origin and request.method not in SAFE_METHODS and urlsplit(origin).netloc != request.headers.get("host"):
        raise AccessDeniedError(f"a page of {origin!r} may not write here without a key", 403)


def _hostname(host: str) -> str:
    """Return the name in a Host header, without the port; "" where it is none."""
    return _cached_hostname(host) if len(host) <= MAX_HOST else ""


@lru_cache(maxsize=256)
def _cached_hostname(host: str) -> str:
    try:
        return urlsplit(f"http://{host}").hostname or ""
    except ValueError:
        return ""


def _unfit(scope: Scope) -> Response | None:
    """The refusal of a call whose address no route could read: too long, or with control characters."""
    if len(scope["path"]) > MOST_PATH or len(scope["query_string"]) > MOST_QUERY:
        text = f"a path has at most {MOST_PATH:,} characters, and a query {MOST_QUERY:,}"
        return answer(Problem(type=f"{PREFIX}too-large", title="That is too large", status=414, detail=text))
    if DISGUISED.search(scope["path"]):
        text = "a path has no segment of dots, such as '..', '..;' or '%2e%2e'; send an id like this in a body"
        return answer(Problem(type=f"{PREFIX}bad-request", title="Bad Request", status=400, detail=text))
    if CONTROL.search(scope["path"]) or b"%00" in scope["query_string"]:
        text = "a path holds no control characters, and a query no NUL"
        return answer(Problem(type=f"{PREFIX}bad-request", title="Bad Request", status=400, detail=text))
    return None


class Envelope:
    """Wraps every request: an id, a size limit on bodies, measured time."""

    def __init__(self, app: ASGIApp, max_body_bytes: int) -> None:
        self.app = app
        self.max_body_bytes = max_body_bytes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer one request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        unfit = _unfit(scope)
        request_id = secrets.token_hex(8)
        logs.request_id.set(request_id)
        scope.setdefault("state", {})["request_id"] = request_id
        begun, status = time.perf_counter(), 500
        limited = scope["path"] != UPLOAD_PATH
        max_bytes = SESSION_BYTES if scope["path"] == SESSION_PATH else self.max_body_bytes
        taken = 0

        async def bounded() -> Message:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b""))
            if limited and taken > max_bytes:
                raise TooLargeError(f"the body is larger than {max_bytes:,} bytes")
            return message

        async def stamped(message: Message) -> None:
            nonlocal status
            if limited and taken > max_bytes and not refused:
                return  # what the framework makes of the broken-off body; the refusal follows
            if message["type"] == "http.response.start":
                status = message["status"]
                out = MutableHeaders(scope=message)
                out["X-Request-Id"] = request_id
                out["X-Content-Type-Options"] = "nosniff"
                if trace := headers.get("traceparent"):
                    out["traceparent"] = trace
            await send(message)

        declared = headers.get("content-length", "0")
        refused = limited and declared.isdigit() and int(declared) > max_bytes
        try:
            if unfit is not None:
                await unfit(scope, receive, stamped)
            elif not refused:
                await self.app(scope, bounded, stamped)
            if refused or (limited and taken > max_bytes):
                refused = True
                await _refusal(max_bytes)(scope, receive, stamped)
        finally:
            route = scope.get("route")
            path = getattr(route, "path", "other")
            meters = scope["app"].state.service.meters
            meters.requests.labels(scope["method"], path, status).inc()
            took = time.perf_counter() - begun
            meters.seconds.labels(path).observe(took)
            if scope["method"] not in SAFE_METHODS or status >= 500 or took > SLOW_S:
                key = scope["state"].get("key_name")
                facts = {
                    "method": scope["method"],
                    "route": path,
                    "status": status,
                    "milliseconds": round(took * 1000, 1),
                }
                log.info("answered", extra=facts | ({"key": key} if key else {}))


def _refusal(max_bytes: int) -> Response:
    hint = "" if max_bytes == SESSION_BYTES else f"; send files to {UPLOAD_PATH}"
    text = f"the body is larger than {max_bytes:,} bytes{hint}"
    return answer(Problem(type=f"{PREFIX}too-large", title="That is too large", status=413, detail=text))
