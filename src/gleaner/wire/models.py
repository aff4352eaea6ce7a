"""Trained models and what they answer."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import ConfigDict, Field

from gleaner.wire.common import Message


class ModelSummary(Message):
    """One registered model."""

    name: str = Field(examples=["spring-comparison.als@1"])
    family: str
    params: dict[str, Any]
    data: str
    run: str
    users: int
    items: int
    cells: int
    created_at: datetime
    decided_by: str = Field(description="The metric its contest was decided by.")
    figures: dict[str, float] = Field(description="Test means by metric.")


class ModelCard(ModelSummary):
    """A model with its lineage."""

    content_hash: str = Field(description="Of the dataset version it was trained on.")
    prepare: dict[str, Any]
    split: dict[str, Any]
    trained_on: str
    seed: int | None
    code_version: str
    fit_seconds: float
    peak_memory_mb: float
    summary: str
    feedback: str
    folds_in: bool
    state_sha256: str
    matrix_sha256: str


class Recommended(Message):
    """One place of a list."""

    item: str
    position: int
    score: float | None = None
    source: str = Field(description="The model or rule that brought it in.")
    promoted: bool = False
    propensity: float | None = Field(None, description="Chance of this item at this place, when places are sampled.")
    reason: str | None = None
    columns: dict[str, Any] = {}


Places = list[Recommended]
"""The list itself; a name of its own because the field is called `list`."""


class ModelList(Message):
    """What one model recommends to one user."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "model": "spring-comparison.als@1", "user": "g-0417", "known": True, "asked": 1, "left_out": 17,
                "list": [{"item": "v-0007", "position": 1, "score": 0.93, "source": "spring-comparison.als@1"}],
            }
        }
    )  # fmt: skip

    model: str
    user: str
    known: bool = Field(description="Whether training saw this user.")
    asked: int
    left_out: int = Field(description="Items left out because the user has them already.")
    where_keeps: int | None = Field(
        None, description="Items of the model for which the condition holds, if one was given."
    )
    list: Places
    note: str | None = None
