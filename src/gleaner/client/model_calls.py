"""Models and what they answer, as calls."""

from __future__ import annotations

from urllib.parse import quote

from gleaner.client.call import Call, get, quoted
from gleaner.wire.common import Page
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
from gleaner.wire.models.values import Average, Pair, RateRequest, Ratings


def list_models(after: str | None = None, limit: int | None = None) -> Call[Page[ModelSummary]]:
    """Models, newest first."""
    return get("/v1/models", Page[ModelSummary], after=after, limit=limit)


def model(name: str) -> Call[ModelCard]:
    """A model's card."""
    return get(f"/v1/models/{quoted(name)}", ModelCard)


def model_recommend(
    name: str, user: str, n: int = 10, *, include_known: bool = False, where: str | None = None
) -> Call[ModelList]:
    """What a bare model recommends to a user, of the items for which an SQL condition holds."""
    path = f"/v1/models/{quoted(name)}/users/{quote(user, safe='')}/recommendations"
    return get(path, ModelList, n=n, include_known=include_known, where=where)


def families() -> Call[list[Family]]:
    """Every model family."""
    return get("/v1/families", list[Family])


def remove_model(name: str) -> Call[RemovedModel]:
    """Take a model out of the registry."""
    return Call("DELETE", f"/v1/models/{quoted(name)}", RemovedModel)


def train_model(request: TrainRequest, idempotency_key: str | None = None) -> Call[Job]:
    """Train one model, without a contest."""
    return Call("POST", "/v1/models", Job, body=request, idempotency_key=idempotency_key)


def estimate(request: TrainRequest) -> Call[Estimate]:
    """What a fit will take."""
    return Call("POST", "/v1/estimates", Estimate, body=request, repeatable=True)


def job_rounds(job_id: int, skip: int = 0) -> Call[list[JobRound]]:
    """Iterations of a job's fits so far."""
    return get(f"/v1/jobs/{job_id}/rounds", list[JobRound], skip=skip)


def model_export(name: str, form: str = "folder") -> Call[bytes]:
    """A model as a file: folder (zipped), factors (zipped Parquet and safetensors), onnx, or network (zipped)."""
    return get(f"/v1/models/{quoted(name)}/export", bytes, form=form)


def take_model(upload: str, name: str | None = None) -> Call[Job]:
    """Bring in an exported model whose zipped folder was uploaded."""
    return Call("POST", "/v1/models/take", Job, body=TakeRequest(upload=upload, name=name))


def model_lists(name: str, request: ListsRequest) -> Call[ModelLists]:
    """Lists of several users, or of someone new from a few items."""
    return Call("POST", f"/v1/models/{quoted(name)}/recommendations", ModelLists, body=request, repeatable=True)


def all_lists(name: str, request: AllRequest) -> Call[Job]:
    """Lists for everybody, as a file: a job."""
    return Call("POST", f"/v1/models/{quoted(name)}/lists", Job, body=request)


def audience(
    name: str, item: str, n: int = 10, *, include_known: bool = False, where: str | None = None
) -> Call[Audience]:
    """The users who would like an item most, of those for whom an SQL condition holds."""
    path = f"/v1/models/{quoted(name)}/items/{quote(item, safe='')}/audience"
    return get(path, Audience, n=n, include_known=include_known, where=where)


def audiences(name: str, request: AudienceRequest) -> Call[list[Audience]]:
    """Audiences of several items, or of a new one from users who touched it."""
    return Call("POST", f"/v1/models/{quoted(name)}/audiences", list[Audience], body=request, repeatable=True)


def similar(name: str, side: str, id: str, n: int = 10, *, where: str | None = None) -> Call[Similar]:
    """Items like an item, or users like a user."""
    path = f"/v1/models/{quoted(name)}/{side}s/{quote(id, safe='')}/similar"
    return get(path, Similar, n=n, where=where)


def likeness(name: str, side: str, one: str, other: str, n: int = 20) -> Call[LikenessByHand]:
    """How alike two items, or two users, are, worked by hand."""
    return get(f"/v1/models/{quoted(name)}/likeness", LikenessByHand, side=side, one=one, other=other, n=n)


def rate(name: str, pairs: list[Pair]) -> Call[Ratings]:
    """Predicted values of pairs."""
    body = RateRequest(pairs=pairs)
    return Call("POST", f"/v1/models/{quoted(name)}/ratings", Ratings, body=body, repeatable=True)


def averages(name: str, n: int = 20) -> Call[list[Average]]:
    """Observed against predicted mean values of the items with the most values."""
    return get(f"/v1/models/{quoted(name)}/averages", list[Average], n=n)


def explain(name: str, user: str, item: str, n: int = 30) -> Call[ModelExplanation]:
    """Why a user gets a score for an item."""
    return get(f"/v1/models/{quoted(name)}/explanation", ModelExplanation, user=user, item=item, n=n)


def factors(name: str, n: int = 5, colour: str | None = None) -> Call[FactorsReport]:
    """What the factors of a model stand for. colour: a column of the item table, for the map."""
    return get(f"/v1/models/{quoted(name)}/factors", FactorsReport, n=n, colour=colour)
