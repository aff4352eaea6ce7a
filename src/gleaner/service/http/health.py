"""Is it alive, is it ready, how does it do."""

from __future__ import annotations

from fastapi import APIRouter, Response
from sqlalchemy import text

from gleaner import __version__
from gleaner.service.http.access import METRICS
from gleaner.service.http.dependencies import PROBLEMS
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ServiceDep
from gleaner.service.shelves.ages import ServedAges
from gleaner.wire.common import Version

router = APIRouter(tags=["health"], responses=PROBLEMS, route_class=GuardedRoute)


@router.get("/healthz")
def alive() -> Version:
    """The process answers."""
    return Version(version=__version__)


@router.get("/readyz")
def ready(service: ServiceDep) -> Version:
    """The database answers too; 503 otherwise."""
    with service.engine.connect() as connection:
        connection.execute(text("SELECT 1"))
    return Version(version=__version__)


@router.get("/metrics", dependencies=[METRICS], response_class=Response)
def metrics(service: ServiceDep) -> Response:
    """Counters and timings in the OpenMetrics format."""
    return Response(service.meters.exposition(ServedAges(service.engine)), media_type=service.meters.media_type)
