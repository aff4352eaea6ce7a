"""Trained models: cards, training, what they answer."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import FileResponse
from starlette.background import BackgroundTask

from gleaner.core.errors import UnknownNameError
from gleaner.jobs.models.model_export import Form, export_file
from gleaner.service.datasets.uploads import require
from gleaner.service.http.access import BUILD
from gleaner.service.http.dependencies import (
    DEFAULT_LIMIT,
    MOST_NUMBER,
    PROBLEMS,
    After,
    Caller,
    IdempotencyKey,
    IdInPath,
    JobNumber,
    Limit,
    Named,
    answer_once,
)
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.service.keys.auditing import record_write
from gleaner.service.models import model_lists, training, user_lists
from gleaner.service.models.cards import card_of
from gleaner.service.models.loaded_model import Side, ask
from gleaner.store import jobs, models
from gleaner.store.database.queue import submit
from gleaner.store.files import job_files
from gleaner.store.files.artefacts import release
from gleaner.wire.common import Page
from gleaner.wire.imports import Source
from gleaner.wire.jobs import Job
from gleaner.wire.models.cards import ModelCard, ModelSummary, RemovedModel, TakeRequest
from gleaner.wire.models.explanations import FactorsReport, LikenessByHand, ModelExplanation
from gleaner.wire.models.lists import (
    AllRequest,
    Audience,
    AudienceRequest,
    ListsRequest,
    ModelList,
    ModelLists,
    Similar,
)
from gleaner.wire.models.training import Estimate, Family, JobRound, TrainRequest
from gleaner.wire.models.values import Average, RateRequest, Ratings
from gleaner.wire.shelves.shelf import MAX_N

MEDIA = {"parquet": "application/vnd.apache.parquet", "csv": "text/csv", "ndjson": "application/x-ndjson"}
router = APIRouter(prefix="/v1", tags=["models"], responses=PROBLEMS, route_class=GuardedRoute)
N = Annotated[int, Query(ge=1, le=MAX_N)]
Known = Annotated[bool, Query(description="Keep what a user has already.")]
Where = Annotated[str | None, Query(description="SQL condition over item columns.", max_length=4000)]
UserWhere = Annotated[str | None, Query(description="SQL condition over user columns.", max_length=4000)]


@router.get("/families", dependencies=[BUILD])
def list_families() -> list[Family]:
    """Every model family with its parameters and defaults."""
    return training.families()


@router.get("/models", dependencies=[BUILD])
def list_models(connection: ConnectionDep, after: After = None, limit: Limit = DEFAULT_LIMIT) -> Page[ModelSummary]:
    """Models, newest first."""
    return Page[ModelSummary].of_record(models.page(connection, after=after, limit=limit))


@router.post("/models", dependencies=[BUILD], status_code=202, response_model=Job)
def train_model(
    body: TrainRequest,
    service: ServiceDep,
    connection: ConnectionDep,
    response: Response,
    caller: Caller,
    idempotency_key: IdempotencyKey = None,
) -> Job | Response:
    """Train one model, without a contest; its job's result names it. Refused over a limit unless confirmed."""

    def make() -> Job:
        request = training.filled(connection, body)
        training.require_allowed(training.estimated(connection, request, service.settings), body.confirm)
        job_id = submit(connection, service.queue, "train", request.data, request.model_dump(mode="json"))
        return Job.of_record(jobs.get(connection, job_id))

    return answer_once(connection, caller, idempotency_key, body.model_dump_json(), response, 202, make)


@router.post("/estimates", dependencies=[BUILD])
def estimate(body: TrainRequest, service: ServiceDep, connection: ConnectionDep) -> Estimate:
    """What a fit will take, without starting it."""
    return training.estimated(connection, training.filled(connection, body), service.settings)


@router.post("/models/take", dependencies=[BUILD], status_code=202)
def take_model(body: TakeRequest, service: ServiceDep, connection: ConnectionDep) -> Job:
    """Bring in a model that was exported: the zipped folder, uploaded before."""
    require(service.settings, {"upload": Source(upload=body.upload)}, may_read_any_url=False)
    job_id = submit(connection, service.queue, "take", body.name or body.upload, body.model_dump(mode="json"))
    return Job.of_record(jobs.get(connection, job_id))


@router.get("/jobs/{job}/rounds", dependencies=[BUILD])
def job_rounds(
    job: JobNumber, connection: ConnectionDep, skip: Annotated[int, Query(ge=0, le=MOST_NUMBER)] = 0
) -> list[JobRound]:
    """Iterations of a job's fits so far; `skip` leaves out the first."""
    jobs.get(connection, job)
    return [JobRound.of_record(each) for each in models.rounds_of(connection, job, skip)]


@router.get("/models/{model}", dependencies=[BUILD])
def get_model(model: Named, connection: ConnectionDep) -> ModelCard:
    """A model's card: parameters, lineage, figures, cost."""
    return card_of(models.get(connection, model))


@router.delete("/models/{model}", dependencies=[BUILD])
def remove_model(model: Named, request: Request, service: ServiceDep) -> RemovedModel:
    """Take a model out of the registry. Refused while a version of a shelf names it."""
    with service.engine.begin() as connection:
        name, digests = models.remove(connection, model)
        record_write(connection, request)
    with service.engine.begin() as connection:
        released = release(connection, digests)
    service.artefacts.remove_files(released)
    return RemovedModel(model=name)


@router.get("/models/{model}/export", dependencies=[BUILD], response_class=FileResponse)
def export_model(model: Named, service: ServiceDep, connection: ConnectionDep, form: Form = "folder") -> FileResponse:
    """The whole model as a zipped folder, its factors as zipped Parquet, or its scoring part as ONNX."""
    card = card_of(models.get(connection, model))
    path = export_file(service.library.model(card.name), card, form, service.settings.staging)
    return FileResponse(path, filename=path.name.split("~")[-1], background=BackgroundTask(path.unlink))


@router.get("/models/{model}/users/{user:path}/recommendations", dependencies=[BUILD])
def recommend_from_model(
    model: Named, user: IdInPath, service: ServiceDep, n: N = 10, include_known: Known = False, where: Where = None
) -> ModelList:
    """The model's own best items for a user, without a shelf's rules."""
    return user_lists.list_for(ask(service, model), user, n, include_known=include_known, where=where)


@router.post("/models/{model}/recommendations", dependencies=[BUILD])
def recommend_many(model: Named, body: ListsRequest, service: ServiceDep) -> ModelLists:
    """Lists of several users, or of someone training never saw from a few items; of given candidates if wanted."""
    return model_lists.lists_for(ask(service, model), body)


@router.post("/models/{model}/lists", dependencies=[BUILD], status_code=202)
def all_lists(model: Named, body: AllRequest, service: ServiceDep, connection: ConnectionDep) -> Job:
    """Lists for everybody; the job's file holds them, as Parquet."""
    name = models.get(connection, model).name
    if body.where is not None:
        listed: Side = "item" if body.what in ("items", "similar_items") else "user"
        ask(service, name).narrowed(listed, None, body.where)
    job_id = submit(connection, service.queue, "lists", name, body.model_dump(mode="json"))
    return Job.of_record(jobs.get(connection, job_id))


@router.get("/jobs/{job}/file", dependencies=[BUILD], response_class=FileResponse)
def job_file(
    job: JobNumber,
    service: ServiceDep,
    connection: ConnectionDep,
    part: Annotated[
        Literal["main", "left-out"], Query(description="What it made, or of an export the list of who is left out.")
    ] = "main",
) -> FileResponse:
    """The file a job made."""
    record = jobs.get(connection, job)
    digest = job_files.digest_of(connection, job, part)
    if part == "left-out":
        if digest is None:
            raise UnknownNameError(
                f"job {job} ({record.kind}, {record.state}) keeps no list of who is left out", where="job"
            )
        path = service.artefacts.local_path(digest)
        return FileResponse(path, media_type=MEDIA["csv"], filename=f"job-{job}.left-out.csv")
    if digest is None or record.result is None:
        raise UnknownNameError(f"job {job} ({record.kind}, {record.state}) has made no file", where="job")
    path, form = service.artefacts.local_path(digest), record.result.get("format", "parquet")
    return FileResponse(path, media_type=MEDIA[form], filename=f"job-{job}.{form}")


@router.get("/models/{model}/items/{item:path}/audience", dependencies=[BUILD])
def audience(
    model: Named, item: IdInPath, service: ServiceDep, n: N = 10, include_known: Known = False, where: UserWhere = None
) -> Audience:
    """The users who would like an item most."""
    body = AudienceRequest(items=[item], n=n, include_known=include_known, where=where)
    return model_lists.audiences_for(ask(service, model), body)[0]


@router.post("/models/{model}/audiences", dependencies=[BUILD])
def audiences(model: Named, body: AudienceRequest, service: ServiceDep) -> list[Audience]:
    """Audiences of several items, or of an item training never saw from users who touched it."""
    return model_lists.audiences_for(ask(service, model), body)


@router.get("/models/{model}/items/{item:path}/similar", dependencies=[BUILD])
def similar_items(model: Named, item: IdInPath, service: ServiceDep, n: N = 10, where: Where = None) -> Similar:
    """Items like an item."""
    return model_lists.similar_to(ask(service, model), "item", item, n, where)


@router.get("/models/{model}/users/{user:path}/similar", dependencies=[BUILD])
def similar_users(model: Named, user: IdInPath, service: ServiceDep, n: N = 10, where: UserWhere = None) -> Similar:
    """Users like a user."""
    return model_lists.similar_to(ask(service, model), "user", user, n, where)


@router.get("/models/{model}/likeness", dependencies=[BUILD])
def likeness(
    model: Named,
    service: ServiceDep,
    one: Annotated[str, Query(max_length=1000)],
    other: Annotated[str, Query(max_length=1000)],
    side: Annotated[Literal["item", "user"], Query(description="What `one` and `other` are.")] = "item",
    n: N = 20,
) -> LikenessByHand:
    """How alike two items, or two users, are, worked by hand: what goes in, each step, the result."""
    return model_lists.likeness_of(ask(service, model), side, one, other, n)


@router.post("/models/{model}/ratings", dependencies=[BUILD])
def rate(model: Named, body: RateRequest, service: ServiceDep) -> Ratings:
    """Predicted values of pairs, or the chances that users take items where the model answers these; each with whether
    the model could answer, why not, and what it fell back on."""
    return model_lists.ratings_for(ask(service, model), body)


@router.get("/models/{model}/averages", dependencies=[BUILD])
def averages(model: Named, service: ServiceDep, n: N = 20) -> list[Average]:
    """Observed against predicted mean values of the items with the most values."""
    return model_lists.averages_of(ask(service, model), n)


@router.get("/models/{model}/explanation", dependencies=[BUILD])
def explain(
    model: Named,
    service: ServiceDep,
    user: Annotated[str, Query(max_length=1000)],
    item: Annotated[str, Query(max_length=1000)],
    n: N = 30,
) -> ModelExplanation:
    """Why a user gets a score for an item: a sum that can be redone by hand where the method is one."""
    return model_lists.explanation_of(ask(service, model), user, item, n)


@router.get("/models/{model}/factors", dependencies=[BUILD])
def factors(
    model: Named,
    service: ServiceDep,
    n: Annotated[int, Query(ge=1, le=50)] = 5,
    colour: Annotated[str | None, Query(max_length=200, description="Column of the item table, for the map.")] = None,
) -> FactorsReport:
    """Each factor's share of the variance and the items at its ends, and a map of the items."""
    return model_lists.factors_of(ask(service, model), n, colour)
