"""Every error answer is an RFC 9457 problem document, built here."""

from __future__ import annotations

import json
import logging
from http import HTTPStatus
from math import ceil
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from pydantic import BaseModel
from sqlalchemy.exc import DataError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeoutError
from starlette.exceptions import HTTPException

from gleaner.core.errors import ConflictError, GleanerError, InputError, UnknownNameError
from gleaner.store.database.outages import is_out_of_room, is_too_large, is_unavailable
from gleaner.wire.common import FieldProblem, Problem, plain_message
from gleaner.wire.fields import misplaced

MEDIA_TYPE = "application/problem+json"
PREFIX = "urn:gleaner:problem:"
log = logging.getLogger("gleaner.service")

MAX_PROBLEMS, SHOWN_PROBLEMS, MAX_PATH = 20, 5, 300
"""Mistakes of one call that are listed, those of them in the sentence, and characters of a field's path."""

KINDS: tuple[tuple[type[GleanerError], str, int, str], ...] = (
    (UnknownNameError, "not-found", 404, "There is nothing of that name"),
    (ConflictError, "conflict", 409, "That cannot be done as things stand"),
    (InputError, "input", 422, "What was given is wrong"),
)


class FieldsError(InputError):
    """Several things are wrong at once."""

    def __init__(self, message: str, errors: list[FieldProblem]) -> None:
        super().__init__(message)
        self.errors = errors


class TooLargeError(GleanerError):
    """A body is larger than is taken."""


class AccessDeniedError(GleanerError):
    """No key, an unknown key, or a key without the scope. status is 401 or 403."""

    def __init__(self, message: str, status: int) -> None:
        super().__init__(message)
        self.status = status


class TooManyError(GleanerError):
    """A key makes more calls than it may. wait: seconds until one is taken again."""

    def __init__(self, message: str, wait: float) -> None:
        super().__init__(message)
        self.wait = wait


class UnavailableError(GleanerError):
    """Something the answer needs is not there for the moment."""


def install(app: FastAPI) -> None:
    """Answer every error as a problem document."""
    app.add_exception_handler(GleanerError, _deliberate)
    app.add_exception_handler(RequestValidationError, _invalid)
    app.add_exception_handler(HTTPException, _http)
    for gone in (OperationalError, InterfaceError, PoolTimeoutError):
        app.add_exception_handler(gone, _database)
    app.add_exception_handler(DataError, _unkeepable)
    app.add_exception_handler(UnicodeEncodeError, _unkeepable)
    app.add_exception_handler(Exception, _unexpected)


def answer(problem: Problem, headers: dict[str, str] | None = None) -> Response:
    """A problem as a response."""
    # part of what was given is repeated, and it may hold what no encoding can say
    content = json.dumps(problem.model_dump(), ensure_ascii=False).encode("utf-8", "replace")
    return Response(content, status_code=problem.status, media_type=MEDIA_TYPE, headers=headers)


def _problem(request: Request, kind: str, status: int, title: str, detail: str) -> Problem:
    return Problem(
        type=PREFIX + kind,
        title=title,
        status=status,
        detail=detail,
        instance=request.url.path,
        request_id=getattr(request.state, "request_id", None),
    )


def _deliberate(request: Request, error: Exception) -> Response:
    assert isinstance(error, GleanerError)
    headers = None
    if isinstance(error, AccessDeniedError):
        problem = _problem(request, "denied", error.status, "Not allowed", error.message)
        headers = {"WWW-Authenticate": "Bearer"} if error.status == 401 else None
    elif isinstance(error, TooLargeError):
        problem = _problem(request, "too-large", 413, "That is too large", error.message)
    elif isinstance(error, TooManyError):
        problem = _problem(request, "too-many", 429, "Too many calls", error.message)
        headers = {"Retry-After": str(ceil(error.wait))}
    elif isinstance(error, UnavailableError):
        problem = _problem(request, "unavailable", 503, "Not available for the moment", error.message)
        headers = {"Retry-After": "2"}
    else:
        kind, status, title = next(
            ((kind, status, title) for each, kind, status, title in KINDS if isinstance(error, each)),
            ("internal", 500, "Something went wrong on our side"),
        )
        problem = _problem(request, kind, status, title, error.message)
    if isinstance(error, FieldsError):
        problem.errors = error.errors
    elif error.where:
        problem.errors = [FieldProblem(field=error.where, message=error.message)]
    return answer(problem, headers)


def _invalid(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    body = _message_of(request)
    mistakes = error.errors()
    fields = [
        FieldProblem(field=_path(each["loc"])[:MAX_PATH], message=_sentence(each, body))
        for each in mistakes[:MAX_PROBLEMS]
    ]
    detail = "; ".join(f"{each.field}: {each.message}" for each in fields[:SHOWN_PROBLEMS])
    if len(mistakes) > SHOWN_PROBLEMS:
        detail += f"; and {len(mistakes) - SHOWN_PROBLEMS:,} more"
    problem = _problem(request, "input", 422, "What was given is wrong", detail)
    problem.errors = fields
    return answer(problem)


def _path(loc: tuple[str | int, ...]) -> str:
    parts = [str(part) for part in loc if part not in ("query", "path", "body", "header")]
    return ".".join(parts) or "body"


def _message_of(request: Request) -> type[BaseModel] | None:
    """The message that a call's body is read as; None where there is none."""
    dependant = getattr(request.scope.get("route"), "dependant", None)
    for each in getattr(dependant, "body_params", []):
        message = each.field_info.annotation
        if isinstance(message, type) and issubclass(message, BaseModel):
            return message
    return None


def _sentence(error: dict[str, Any], body: type[BaseModel] | None) -> str:
    if error["type"] == "extra_forbidden" and body is not None and error["loc"][:1] == ("body",):
        return misplaced(body, tuple(error["loc"][1:]))
    text = plain_message(error)
    given = error.get("input")
    short = isinstance(given, (str, int, float)) and error["type"] not in ("missing", "value_error")
    return f"{text} (given {given!r})" if short and len(str(given)) < 80 else text


def _http(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    title = HTTPStatus(error.status_code).phrase
    kind = "not-found" if error.status_code == 404 else title.lower().replace(" ", "-")
    detail = f"{request.method} {request.url.path}: {title.lower()}; /openapi.json lists every call"
    return answer(_problem(request, kind, error.status_code, title, detail), dict(error.headers or {}))


def _database(request: Request, error: Exception) -> Response:
    if is_too_large(error):
        log.info("a value that is too large to be kept: %s", type(error).__name__)
        text = "a value is too large to be kept; ids have at most 1,000 bytes"
        return answer(_problem(request, "input", 422, "What was given is wrong", text))
    if not (is_unavailable(error) or is_out_of_room(error)):
        return _unexpected(request, error)
    log.error("database unavailable: %s", error)
    reason = "is out of room" if is_out_of_room(error) else "does not answer"
    text = f"the database {reason}; nothing was changed, try again"
    return answer(_problem(request, "unavailable", 503, "Not available for the moment", text), {"Retry-After": "2"})


def _unkeepable(request: Request, error: Exception) -> Response:
    log.info("a value that cannot be kept: %s", type(error).__name__)
    text = "a value cannot be kept: texts hold no NUL and no half of a character, and numbers have at most 64 bits"
    return answer(_problem(request, "input", 422, "What was given is wrong", text))


def _unexpected(request: Request, error: Exception) -> Response:
    number = getattr(request.state, "request_id", "-")
    log.error("request %s failed", number, exc_info=error)
    text = f"the request failed; the service's log has the details under request {number}"
    return answer(_problem(request, "internal", 500, "Something went wrong on our side", text))
