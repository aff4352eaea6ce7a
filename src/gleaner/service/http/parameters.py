"""Query parameters that a route does not have: refused with the nearest name, and not passed over in silence."""

from __future__ import annotations

from fastapi import Request
from fastapi.routing import APIRoute

from gleaner.core.errors import InputError, near


async def refuse_unknown(request: Request) -> None:
    """Raise InputError for a query parameter that the route does not have."""
    route = request.scope.get("route")
    given = request.scope["query_string"]
    if not given or not isinstance(route, APIRoute) or not route.include_in_schema:
        return
    known = _parameters_of(route)
    for name in request.query_params:
        if name not in known:
            raise InputError(f"this call has no parameter {name[:100]!r}{near(name, sorted(known))}", where=name[:100])


def _parameters_of(route: APIRoute) -> set[str]:
    parameters: set[str] = set()
    waiting = [route.dependant]
    while waiting:
        dependant = waiting.pop()
        parameters.update(each.alias for each in dependant.query_params)
        waiting += dependant.dependencies
    return parameters
