"""Trained models."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from gleaner.service.guard import BUILD
from gleaner.service.model_lists import list_for
from gleaner.service.routes.common import DEFAULT_LIMIT, PROBLEMS, After, Limit
from gleaner.service.state import ConnectionDep, ServiceDep
from gleaner.store import models
from gleaner.wire.common import Page
from gleaner.wire.models import ModelCard, ModelList, ModelSummary
from gleaner.wire.shelves import MAX_N

router = APIRouter(prefix="/v1", tags=["models"], responses=PROBLEMS)


@router.get("/models", dependencies=[BUILD])
def list_models(connection: ConnectionDep, after: After = None, limit: Limit = DEFAULT_LIMIT) -> Page[ModelSummary]:
    """Models, newest first."""
    return models.page(connection, after=after, limit=limit)


@router.get("/models/{model}", dependencies=[BUILD])
def get_model(model: str, connection: ConnectionDep) -> ModelCard:
    """A model's card: parameters, lineage, figures, cost."""
    return models.card(connection, model)


@router.get("/models/{model}/users/{user:path}/recommendations", dependencies=[BUILD])
def recommend_from_model(
    model: str,
    user: str,
    service: ServiceDep,
    n: Annotated[int, Query(ge=1, le=MAX_N)] = 10,
    include_known: Annotated[bool, Query(description="Keep items the user has already.")] = False,
    where: Annotated[str | None, Query(description="SQL condition over item columns.", max_length=4000)] = None,
) -> ModelList:
    """The model's own best items for a user, without a shelf's rules."""
    return list_for(service, model, user, n, include_known=include_known, where=where)
