"""Files for other systems."""

from __future__ import annotations

from fastapi import APIRouter

from gleaner.core.errors import InputError
from gleaner.service.datasets import uploads
from gleaner.service.http.access import BUILD, AdminDep
from gleaner.service.http.dependencies import PROBLEMS, TraceParent
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, Service, ServiceDep
from gleaner.service.models.loaded_model import ask
from gleaner.store import jobs, models, shelves
from gleaner.store.database.queue import submit
from gleaner.wire.exports import ExportRequest
from gleaner.wire.jobs import Job

router = APIRouter(prefix="/v1", tags=["exports"], responses=PROBLEMS, route_class=GuardedRoute)


@router.post("/exports", dependencies=[BUILD], status_code=202)
def export(
    body: ExportRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    admin: AdminDep,
    traceparent: TraceParent = None,
) -> Job:
    """Write a file or fill a table in a worker. Without `to` or `table`, `/v1/jobs/{job}/file` has the file."""
    if body.pairs is not None:
        uploads.require(service.settings, {"pairs": body.pairs}, may_read_any_url=admin)
    targets = {} if body.to is None else {"to": body.to}
    targets |= {} if body.table is None else {"table.url": body.table.url}
    uploads.require_targets(service.settings, targets, may_write_anywhere=admin)
    if body.shelf is not None:
        subject = body.shelf = shelves.get(connection, body.shelf).name
    else:
        assert body.model is not None
        subject = body.model = models.get(connection, body.model).name
        _check_model(service, body, subject)
    payload = body.model_dump(mode="json")
    job_id = submit(connection, service.queue, "export", subject, payload, traceparent, anywhere=admin)
    return Job.of_record(jobs.get(connection, job_id))


def _check_model(service: Service, body: ExportRequest, model: str) -> None:
    """Raise InputError where the model cannot give what is asked of it."""
    lists = ask(service, model)
    if body.what == "values":
        lists.fitted.require_values()
    if body.where is not None:
        lists.narrowed("item" if body.what == "top-items" else "user", None, body.where)
    for item in body.items:
        if lists.fitted.train.items.row(item) is None:
            raise InputError(f"{model} does not know item {item!r}", where="items")
