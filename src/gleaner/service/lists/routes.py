"""Recommendation lists made elsewhere, and what is made of lists."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from gleaner.core.errors import InputError, UnknownNameError
from gleaner.core.metrics.catalogue import require_metric
from gleaner.core.models.base.registry import FAMILIES, family
from gleaner.jobs.contests.declarations import preparation_of, split_of
from gleaner.service.datasets.uploads import require
from gleaner.service.http.access import BUILD
from gleaner.service.http.dependencies import DEFAULT_LIMIT, PROBLEMS, After, JobNumber, Limit, TraceParent
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.store import contests, datasets, jobs, list_work, models
from gleaner.store.database.queue import submit
from gleaner.wire.analysis import AnalyseRequest, AnalysisReport
from gleaner.wire.common import Page
from gleaner.wire.imports import Source
from gleaner.wire.jobs import Job
from gleaner.wire.lists import ListScores, ListWork, ScoreListsRequest

router = APIRouter(prefix="/v1/lists", tags=["lists"], responses=PROBLEMS, route_class=GuardedRoute)


@router.get("", dependencies=[BUILD])
def list_list_work(
    connection: ConnectionDep,
    after: After = None,
    limit: Limit = DEFAULT_LIMIT,
    data: Annotated[
        str | None, Query(max_length=200, description="Only lists of this dataset or version.", examples=["seeds@1"])
    ] = None,
) -> Page[ListWork]:
    """Lists that were scored or analysed, newest first."""
    return Page[ListWork].of_record(list_work.page(connection, after=after, limit=limit, data=data))


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
    job_id = submit(connection, service.queue, "score-lists", body.label, payload, traceparent)
    return Job.of_record(jobs.get(connection, job_id))


@router.get("/scores/{job}", dependencies=[BUILD])
def get_list_scores(job: JobNumber, connection: ConnectionDep) -> ListScores:
    """The scores of lists, beside the contenders of the run they were scored with."""
    record = jobs.get(connection, job)
    if record.kind != "score-lists" or record.result is None:
        raise UnknownNameError(f"job {job} is no scoring of lists that has ended well", where="job")
    return ListScores.model_validate(record.result)


@router.post("/analyses", dependencies=[BUILD], status_code=202)
def analyse_lists(
    body: AnalyseRequest, service: ServiceDep, connection: ConnectionDep, traceparent: TraceParent = None
) -> Job:
    """Analyse how unexpected lists are: a model's, or a file's uploaded before. Answers the job; its report is at
    /v1/lists/analyses/{job}, figures by user are the job's file."""
    if (body.model is None) == (body.upload is None):
        raise InputError("name a model or an upload, one of the two", where="model")
    if body.upload is not None:
        require(service.settings, {"upload": Source(upload=body.upload)}, may_read_any_url=False)
    if body.model is not None:
        body.model = models.get(connection, body.model).name
        if body.data is not None:
            raise InputError("histories are those the model was trained on, or a run's: leave data out", where="data")
    if body.beside is not None:
        run = contests.get(connection, body.beside)
        if run.spec.split.by in ("users", "folds"):
            text = f"{run.name} divides by {run.spec.split.by}, and histories come from one training part"
            raise InputError(text, where="beside")
        if body.data is not None:
            raise InputError(f"{run.name} is about {run.data}; leave data out", where="data")
        body.beside = run.name
    elif body.upload is not None:
        if body.data is None:
            raise InputError("name a run, or the data that histories come from", where="data")
        body.data = datasets.version(connection, body.data).name
        preparation_of(body.prepare)
    if family(body.expected).personal:
        impersonal = ", ".join(name for name, each in FAMILIES.items() if not each.personal)
        text = f"what anybody would list is nothing personal: expected can be {impersonal}, not {body.expected}"
        raise InputError(text, where="expected")
    subject = body.model or body.file
    job_id = submit(connection, service.queue, "analyse-lists", subject, body.model_dump(mode="json"), traceparent)
    return Job.of_record(jobs.get(connection, job_id))


@router.get("/analyses/{job}", dependencies=[BUILD])
def get_list_analysis(job: JobNumber, connection: ConnectionDep) -> AnalysisReport:
    """How unexpected the lists are, by each definition, and whether the definitions agree."""
    record = jobs.get(connection, job)
    if record.kind != "analyse-lists" or record.result is None:
        raise UnknownNameError(f"job {job} is no analysis of lists that has ended well", where="job")
    return AnalysisReport.model_validate(record.result)
