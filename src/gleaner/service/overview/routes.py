"""The state of the installation at a glance."""

from __future__ import annotations

from fastapi import APIRouter

from gleaner.service.http.access import BUILD
from gleaner.service.http.dependencies import PROBLEMS
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.service.overview.overview import overview_of
from gleaner.wire.overview import Overview

router = APIRouter(prefix="/v1", tags=["overview"], responses=PROBLEMS, route_class=GuardedRoute)


@router.get("/overview", dependencies=[BUILD])
def overview(service: ServiceDep, connection: ConnectionDep) -> Overview:
    """What is served and how it does, what runs, and what needs attention."""
    return overview_of(service, connection)
