"""Recommendation lists made elsewhere."""

from __future__ import annotations

from fastapi import APIRouter

from gleaner.core.errors import InputError, NotFoundError
from gleaner.core.metrics.catalogue import require_metric
from gleaner.jobs.divide import preparation_of, split_of
from gleaner.service.guard import BUILD
from gleaner.service.routes.common import PROBLEMS, TraceParent
from gleaner.service.state import ConnectionDep, ServiceDep
from gleaner.service.uploads import require
from gleaner.store import contests, datasets, jobs
from gleaner.store.queue import submit
from gleaner.wire.imports import Source
from gleaner.wire.jobs import Job
from gleaner.wire.lists import ListScores, ScoreListsRequest

router = APIRouter(prefix="/v1/lists", tags=["lists"], responses=PROBLEMS)


@router.post("/scores", dependencies=[BUILD], status_code=202)
def score_lists(
    body: ScoreListsRequest, service: ServiceDep, connection: ConnectionDep, traceparent: TraceParent = None
) -> Job:
    """Score lists, uploaded before, against a test part: that of a run, beside its contenders, or of a dataset divided
    as the request says. Answers the job; its scores are at /v1/lists/scores/{job}."""
    require(service.settings, {"upload": Source(upload=body.upload)}, may_read_any_url=False)
    if body.beside is not None:
        run = contests.get(connection, body.beside)
        if body.data is not None and datasets.version(connection, body.data).name != run.data:
            raise InputError(f"{run.name} is about {run.data}; leave data out", where="data")
        body.beside = run.name
    elif body.data is None:
        raise InputError("name a run to score the lists beside, or the data to score them on", where="data")
    else:
        body.data = datasets.version(connection, body.data).name
        for name in body.rank.metrics:
            require_metric(name)
        preparation_of(body.prepare)
        split_of(body.split, body.seed)
    payload = body.model_dump(mode="json")
    return jobs.get(connection, submit(connection, service.queue, "score-lists", body.label, payload, traceparent))


@router.get("/scores/{job}", dependencies=[BUILD])
def get_list_scores(job: int, connection: ConnectionDep) -> ListScores:
    """The scores of lists, beside the contenders of the run they were scored with."""
    found = jobs.get(connection, job)
    if found.kind != "score-lists" or found.result is None:
        raise NotFoundError(f"job {job} is no scoring of lists that has ended well", where="job")
    return ListScores.model_validate(found.result)
