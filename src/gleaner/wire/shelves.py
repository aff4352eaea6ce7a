"""Shelves: the file that declares one, its versions, and the answers it serves."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import ConfigDict, Field

from gleaner.wire.common import Message, Name
from gleaner.wire.models import Places

MAX_N = 1000
MAX_RECENT = 500
MAX_USER = 1000
MAX_CONTEXT = 50


class ModelSource(Message):
    """Candidates from a model."""

    model: str


class ShelfSpec(Message):
    """A shelf file."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "shelf": "for-growers", "title": "Seeds you may like",
                "candidates": [{"model": "spring-comparison.als@1"}],
                "leave_out": ["known", "recent"], "where": "stock > 0",
                "fallback": [{"model": "spring-comparison.popular@1"}],
                "show": ["name", "family"],
            }
        }
    )  # fmt: skip

    shelf: Name
    title: str = ""
    candidates: list[ModelSource] = Field(min_length=1, max_length=1, description="The model that ranks the list.")
    leave_out: list[Literal["known", "recent"]] = Field(
        ["known", "recent"],
        description="known: what training saw the user with. recent: items named in the request.",
    )
    where: str | None = Field(
        None,
        max_length=4000,
        description="SQL condition over item columns, `:user.COLUMN`, `:context.NAME`, now() and the user's own "
        "history; only items it holds for are listed.",
    )
    fallback: list[ModelSource] = Field(
        min_length=1,
        description="Models that need no history, tried in order for someone the shelf knows nothing of.",
    )
    show: list[str] = Field([], description="Item columns sent along.")


class ShelfVersion(Message):
    """One published version."""

    name: str = Field(examples=["for-growers@2"])
    shelf: str
    number: int
    published_at: datetime
    spec: ShelfSpec
    file: str
    data: str = Field(description="The dataset version its models were trained on.")


class ShelfSummary(Message):
    """A shelf and the version it serves."""

    shelf: Name
    title: str
    serving: str
    published_at: datetime
    versions: int
    data: str


class RecommendRequest(Message):
    """Ask a shelf for a list, with what the caller knows."""

    model_config = ConfigDict(json_schema_extra={"example": {"user": "g-0417", "recent": ["v-0007"], "n": 10}})

    user: str | None = Field(None, description="Left out: someone anonymous.")
    recent: list[str] = Field([], max_length=MAX_RECENT, description="Items they just touched, newest last.")
    n: int = Field(10, ge=1, le=MAX_N)
    context: dict[str, Any] = Field(
        {}, max_length=MAX_CONTEXT, description="Values that conditions name as `:context.NAME`; null if left out."
    )
    where: str | None = Field(
        None, max_length=4000, description="One more condition, in the shelf's language, for this list alone."
    )
    explain: bool = False


class Stage(Message):
    """One stage of making the list."""

    stage: str
    items: int
    milliseconds: float


Stages = list[Stage]
"""A name of its own because the answer has a field called `list`."""


class RecommendationAnswer(Message):
    """A recommendation list, and how it came about."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "list_id": "0197a6c2b1d27c0e9a54f1c7", "shelf": "for-growers", "version": 2,
                "model": "spring-comparison.als@1", "user": "g-0417", "asked": 1, "fallback": None,
                "list": [{"item": "v-0007", "position": 1, "score": 0.93, "source": "spring-comparison.als@1"}],
            }
        }
    )  # fmt: skip

    list_id: str = Field(description="Name it in events about this list.")
    shelf: str
    version: int
    model: str
    user: str | None
    asked: int
    list: Places
    fallback: str | None = Field(None, description="What was used instead of the user's trained history, and why.")
    left_out: dict[str, int] = Field({}, description="Items left out, by reason.")
    note: str | None = None
    stages: Stages | None = None


class ShelfHistory(Message):
    """Every version of a shelf, newest first."""

    shelf: str
    versions: list[ShelfVersion]


class ServedList(Message):
    """A list that was served."""

    list_id: str
    shelf: str
    version: int
    user: str | None
    at: datetime
    items: list[str]
    fallback: str | None
    context: dict[str, Any] = {}
