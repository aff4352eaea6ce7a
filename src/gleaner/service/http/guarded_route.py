"""Routes that know the caller before they read a body, and stop at the first few mistakes of one."""

from __future__ import annotations

from collections.abc import Callable, Coroutine
from typing import Any

from anyio import CapacityLimiter
from fastapi import Request, Response
from fastapi.routing import APIRoute, _effective_route_context_var
from pydantic import ValidationError
from pydantic_core import PydanticCustomError

from gleaner.service.http.access import SAFE_METHODS, allow, scopes_of_route
from gleaner.service.http.state import service_of

MAX_MISTAKES = 1000
"""A body with more mistakes is not what a call takes: they are not listed."""


READ_FILES = frozenset(
    {
        "/v1/contests",
        "/v1/contests/check",
        "/v1/shelves",
        "/v1/shelves/check",
        "/v1/shelf-evaluations",
        "/v1/datasets/{name}/versions/{number}/split",
    }
)
"""Calls that read YAML files, which takes the processor for up to seconds."""

FILE_READERS = CapacityLimiter(2)
"""How many of them are answered at once; others wait, and hold up no other call."""


class GuardedRoute(APIRoute):
    """A route whose key is checked before its body is read.

    The framework reads and parses a body before it looks at a route's dependencies, so without this anybody could have
    megabytes parsed.
    """

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        """Return the handler with the check before it."""
        # a route of a router that an application includes is read anew, with the application's dependencies
        included = _effective_route_context_var.get()
        dependant = self.dependant if included is None else included.dependant
        for field in dependant.body_params:
            field._type_adapter = _FewMistakes(field._type_adapter)
        handle, scopes = super().get_route_handler(), scopes_of_route(dependant.dependencies)
        if scopes is None or set(self.methods or ()) <= set(SAFE_METHODS):
            return handle

        reads_file = self.path in READ_FILES

        async def guarded(request: Request) -> Response:
            await allow(request, service_of(request), scopes)
            if reads_file:
                async with FILE_READERS:
                    return await handle(request)
            return await handle(request)

        return guarded


class _FewMistakes:
    """A reader of bodies that says of a body with very many mistakes only that it has them.

    Listing each would cost kilobytes of memory for a few bytes of body.
    """

    def __init__(self, reader: Any) -> None:
        self._reader = reader

    def validate_python(self, value: Any, **named: Any) -> Any:
        """Return the message. Raise ValidationError with one error where there are very many."""
        try:
            return self._reader.validate_python(value, **named)
        except ValidationError as error:
            if error.error_count() <= MAX_MISTAKES:
                raise
            text = "this is not what the call takes: it has {count} mistakes, such as fields that do not exist"
            many = PydanticCustomError("too_many_mistakes", text, {"count": error.error_count()})
        raise ValidationError.from_exception_data("body", [{"type": many, "loc": (), "input": None}])

    def __getattr__(self, name: str) -> Any:
        return getattr(self._reader, name)
