"""Shelves and served lists, as calls."""

from __future__ import annotations

from typing import Any

from gleaner.client.call import Call, get, quoted
from gleaner.wire.common import Page
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.jobs import Job
from gleaner.wire.shelves.evaluations import EvaluateShelfRequest, ShelfEvaluation
from gleaner.wire.shelves.publishing import PublishRequest
from gleaner.wire.shelves.refreshes import Refreshes, RefreshRequest
from gleaner.wire.shelves.shelf import (
    RecommendationAnswer,
    RecommendRequest,
    RollbackRequest,
    ServedList,
    ShelfCheck,
    ShelfDifference,
    ShelfDraft,
    ShelfHistory,
    ShelfSummary,
    ShelfVersion,
)


def publish_shelf(file: FileRequest | PublishRequest, idempotency_key: str | None = None) -> Call[ShelfVersion]:
    """Publish a shelf file. A PublishRequest names the version that the file is based on and confirms other models."""
    return Call("POST", "/v1/shelves", ShelfVersion, body=file, idempotency_key=idempotency_key)


def list_shelves(after: str | None = None, limit: int | None = None) -> Call[Page[ShelfSummary]]:
    """Shelves by name."""
    return get("/v1/shelves", Page[ShelfSummary], after=after, limit=limit)


def shelf(name: str) -> Call[ShelfVersion]:
    """The version of a shelf being served, or one by its number."""
    return get(f"/v1/shelves/{quoted(name)}", ShelfVersion)


def check_shelf(file: FileRequest | PublishRequest) -> Call[ShelfCheck]:
    """Look at a shelf file without publishing it."""
    return Call("POST", "/v1/shelves/check", ShelfCheck, body=file, repeatable=True)


def draft_shelf(model: str) -> Call[ShelfDraft]:
    """A commented shelf file for a model."""
    return get(f"/v1/models/{quoted(model)}/shelf-file", ShelfDraft)


def shelf_history(shelf: str) -> Call[ShelfHistory]:
    """Every version of a shelf, and which was served when."""
    return get(f"/v1/shelves/{quoted(shelf)}/versions", ShelfHistory)


def shelf_difference(shelf: str, before: int | None = None, after: int | None = None) -> Call[ShelfDifference]:
    """What changed from one version to another; left out: from the one served before to the one served."""
    return get(f"/v1/shelves/{quoted(shelf)}/difference", ShelfDifference, before=before, after=after)


def roll_back(shelf: str, to: int | None = None, idempotency_key: str | None = None) -> Call[ShelfVersion]:
    """Serve an earlier version again."""
    path = f"/v1/shelves/{quoted(shelf)}/rollback"
    return Call("POST", path, ShelfVersion, body=RollbackRequest(to=to), idempotency_key=idempotency_key)


def refresh_shelf(shelf: str, *, only_judge: bool = False) -> Call[Job]:
    """Refresh a shelf now."""
    return Call("POST", f"/v1/shelves/{quoted(shelf)}/refresh", Job, body=RefreshRequest(only_judge=only_judge))


def refreshes(shelf: str, after: str | None = None, limit: int | None = None) -> Call[Refreshes]:
    """What became of the refreshes of a shelf."""
    return get(f"/v1/shelves/{quoted(shelf)}/refreshes", Refreshes, after=after, limit=limit)


def recommend(
    shelf: str,
    *,
    user: str | None = None,
    recent: list[str] | None = None,
    n: int = 10,
    context: dict[str, Any] | None = None,
    where: str | None = None,
    candidates: list[str] | None = None,
    values: dict[str, float] | None = None,
    show: list[str] | None = None,
    explain: bool = False,
    record: bool = True,
) -> Call[RecommendationAnswer]:
    """Ask a shelf for a list.

    context: values its conditions name. where: one more condition. candidates: put these in order, and list nothing
    else. values: what items of recent measure. show: item columns sent along. record: whether the list is kept and
    counted.

    Asking changes nothing but the log of served lists, so it may be repeated.
    """
    body = RecommendRequest.model_construct(
        user=user,
        recent=recent or [],
        n=n,
        context=context or {},
        where=where,
        candidates=candidates or [],
        values=values or {},
        show=show,
        explain=explain,
        record=record,
    )
    path = f"/v1/shelves/{quoted(shelf)}/recommendations"
    return Call("POST", path, RecommendationAnswer, body=body, repeatable=True)


def served_list(list_id: str) -> Call[ServedList]:
    """A list that was served."""
    return get(f"/v1/lists/{quoted(list_id)}", ServedList)


def evaluate_shelf(request: EvaluateShelfRequest) -> Call[Job]:
    """Evaluate a shelf on the test part of a run; `shelf_evaluation` answers what came of it."""
    return Call("POST", "/v1/shelf-evaluations", Job, body=request)


def shelf_evaluation(job_id: int) -> Call[ShelfEvaluation]:
    """What came of an evaluation."""
    return get(f"/v1/shelf-evaluations/{job_id}", ShelfEvaluation)
