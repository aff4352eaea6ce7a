"""Files for other systems."""

from __future__ import annotations

from fastapi import APIRouter

from gleaner.core.errors import InputError
from gleaner.service.guard import BUILD
from gleaner.service.model_lists import ask
from gleaner.service.routes.common import PROBLEMS, TraceParent
from gleaner.service.state import ConnectionDep, ServiceDep
from gleaner.store import jobs, models
from gleaner.store.queue import submit
from gleaner.wire.exports import ExportRequest
from gleaner.wire.jobs import Job

router = APIRouter(prefix="/v1", tags=["exports"], responses=PROBLEMS)


@router.post("/exports", dependencies=[BUILD], status_code=202)
def export(body: ExportRequest, service: ServiceDep, connection: ConnectionDep, traceparent: TraceParent = None) -> Job:
    """Write a file in a worker; `/v1/jobs/{job}/file` has it."""
    body.model = models.card(connection, body.model).name
    lists = ask(service, body.model)
    if body.where is not None:
        lists.narrowed("item" if body.what == "top-items" else "user", None, body.where)
    for item in body.items:
        if lists.fitted.train.items.row(item) is None:
            raise InputError(f"{body.model} does not know item {item!r}", where="items")
    payload = body.model_dump(mode="json")
    return jobs.get(connection, submit(connection, service.queue, "export", body.model, payload, traceparent))
