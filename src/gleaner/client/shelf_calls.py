"""Shelves and served lists, as calls."""

from __future__ import annotations

from typing import Any

from gleaner.client.call import Call, get, quoted
from gleaner.wire.common import Page
from gleaner.wire.contests import FileRequest
from gleaner.wire.shelves import (
    RecommendationAnswer,
    RecommendRequest,
    ServedList,
    ShelfHistory,
    ShelfSummary,
    ShelfVersion,
)


def publish_shelf(file: FileRequest, idempotency_key: str | None = None) -> Call[ShelfVersion]:
    """Publish a shelf file."""
    return Call("POST", "/v1/shelves", ShelfVersion, body=file, idempotency_key=idempotency_key)


def list_shelves(after: str | None = None, limit: int | None = None) -> Call[Page[ShelfSummary]]:
    """Shelves by name."""
    return get("/v1/shelves", Page[ShelfSummary], after=after, limit=limit)


def shelf(name: str) -> Call[ShelfVersion]:
    """The version of a shelf being served, or one by its number."""
    return get(f"/v1/shelves/{quoted(name)}", ShelfVersion)


def shelf_history(name: str) -> Call[ShelfHistory]:
    """Every version of a shelf."""
    return get(f"/v1/shelves/{quoted(name)}/versions", ShelfHistory)


def recommend(
    shelf: str,
    *,
    user: str | None = None,
    recent: list[str] | None = None,
    n: int = 10,
    context: dict[str, Any] | None = None,
    where: str | None = None,
    explain: bool = False,
) -> Call[RecommendationAnswer]:
    """A list from a shelf; context: values its conditions name; where: one more condition.

    Asking changes nothing but the log of served lists, so it may be repeated.
    """
    body = RecommendRequest.model_construct(
        user=user, recent=recent or [], n=n, context=context or {}, where=where, explain=explain
    )
    path = f"/v1/shelves/{quoted(shelf)}/recommendations"
    return Call("POST", path, RecommendationAnswer, body=body, repeatable=True)


def served_list(list_id: str) -> Call[ServedList]:
    """A list that was served."""
    return get(f"/v1/lists/{quoted(list_id)}", ServedList)
