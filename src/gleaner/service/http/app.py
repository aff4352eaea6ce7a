"""The web application."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import Depends, FastAPI, Request
from fastapi.responses import FileResponse, HTMLResponse
from starlette.responses import Response

from gleaner import __version__
from gleaner.service.contests import report_routes as reports
from gleaner.service.contests import routes as contests
from gleaner.service.datasets import routes as datasets
from gleaner.service.events import routes as events
from gleaner.service.exports import routes as exports
from gleaner.service.http import health, problems
from gleaner.service.http.access import ANY_KEY, Envelope
from gleaner.service.http.listener import Listener
from gleaner.service.http.parameters import refuse_unknown
from gleaner.service.http.state import Service
from gleaner.service.jobs import routes as jobs
from gleaner.service.keys import routes as keys
from gleaner.service.keys import session_routes as session
from gleaner.service.lists import routes as lists
from gleaner.service.models import routes as models
from gleaner.service.overview import routes as overview
from gleaner.service.shelves import evaluations
from gleaner.service.shelves import routes as shelves
from gleaner.service.shelves.refreshing import try_proposal
from gleaner.service.tables import routes as tables
from gleaner.settings import Settings
from gleaner.store import events as event_store
from gleaner.store import jobs as job_store
from gleaner.store import keys as key_store
from gleaner.store import live_columns, refreshes
from gleaner.store import shelves as shelf_store

CONSOLE = Path(__file__).parents[1] / "console"
# the most called first: routes are tried in order
ROUTERS = (
    shelves,
    events,
    health,
    models,
    jobs,
    datasets,
    contests,
    reports,
    lists,
    evaluations,
    exports,
    keys,
    session,
    tables,
    overview,
)
DESCRIPTION = (
    "Bring interactions, train and compare models, serve recommendations. Long work answers 202 with a job. "
    "Errors are RFC 9457 problem documents. Lists are paged by cursor. Writes take an Idempotency-Key."
)
NO_CONSOLE = "<p>The console is not built: run <code>npm ci && npm run build</code> in <code>console/</code>.</p>"
MOST_FILE = 200
"""Characters of a path: none of the console's is as long, and file systems take no longer names."""

CACHE_FOREVER = "public, max-age=31536000, immutable"
PAGE_POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
    "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
"""No inline script, whatever a text of somebody's data holds; styles are set inline by the charts."""


def create_app(settings: Settings) -> FastAPI:
    """An application over one database and one artefact root."""
    app = FastAPI(
        title="Gleaner",
        version=__version__,
        description=DESCRIPTION,
        lifespan=_lifespan,
        docs_url=None,
        openapi_url=None,
        redoc_url=None,
        # without this a generated client names operations after Python functions and paths
        generate_unique_id_function=lambda route: route.name,
        dependencies=[Depends(refuse_unknown)],
    )
    app.state.service = Service.open(settings)
    app.add_middleware(Envelope, max_body_bytes=settings.max_body_bytes)
    problems.install(app)
    for module in ROUTERS:
        app.include_router(module.router)
    app.add_api_route("/openapi.json", app.openapi, include_in_schema=False, methods=["GET"], dependencies=[ANY_KEY])
    app.add_api_route("/{path:path}", _console, include_in_schema=False, methods=["GET"])
    return app


@asynccontextmanager
async def _lifespan(app: FastAPI) -> AsyncIterator[None]:
    service: Service = app.state.service
    service.job_events.bind(asyncio.get_running_loop())
    listeners = listeners_of(service)
    for listener in listeners:
        listener.start()
    try:
        yield
    finally:
        for listener in listeners:
            listener.stop()
        service.close()


def listeners_of(service: Service) -> list[Listener]:
    """Loading a shelf takes seconds, and building one anew a part of one; events must not wait for either."""
    url = service.settings.require_database_url()
    jobs_and_shelves: dict[str, Callable[[str], object]] = {
        job_store.CHANNEL: lambda payload: service.job_events.fire_threadsafe(int(payload)),
        shelf_store.CHANNEL: service.shelves.refresh,
        key_store.CHANNEL: service.keys.forget,
        live_columns.CHANNEL: service.shelves.hear_of_columns,
        refreshes.CHANNEL: lambda payload: try_proposal(service.engine, service.shelves, int(payload)),
    }
    return [
        Listener(url, jobs_and_shelves, service.look_again, service.begin, service.forgotten_users.look),
        Listener(url, {event_store.CHANNEL: service.live.hear}, service.live.read_again, service.live.read_again),
    ]


def _console(request: Request, path: str) -> Response:
    """The console's files; every other path that is not the API's is one of its pages."""
    if path == "v1" or path.startswith("v1/"):
        raise problems.HTTPException(404)
    if len(path) > MOST_FILE:
        raise problems.HTTPException(404)
    file = (CONSOLE / path).resolve()
    if path and file.is_file() and file.is_relative_to(CONSOLE.resolve()):
        headers = {"Cache-Control": CACHE_FOREVER} if path.startswith("assets/") else {}
        return FileResponse(file, headers=headers)
    if "." in path.rsplit("/", 1)[-1] and path.startswith("assets/"):
        raise problems.HTTPException(404)
    page = CONSOLE / "index.html"
    if not page.exists():
        return HTMLResponse(NO_CONSOLE, status_code=503)
    return FileResponse(page, headers={"Cache-Control": "no-cache", "Content-Security-Policy": PAGE_POLICY})
