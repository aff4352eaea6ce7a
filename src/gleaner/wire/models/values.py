"""Values that a model predicts."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from gleaner.wire.common import MAX_CONTEXT, ContextName, ContextValue, Id, Message


class Pair(Message):
    """A user and an item, and where the one meets the other."""

    user: Id
    item: Id
    context: dict[ContextName, ContextValue] = Field(
        {},
        max_length=MAX_CONTEXT,
        description="Columns of the interaction that the model looks at; missing if left out.",
    )


class RateRequest(Message):
    """Pairs whose values, or chances, are wanted."""

    pairs: list[Pair] = Field(min_length=1, max_length=100_000)


class Rating(Message):
    """A predicted value, or the chance that the user takes the item when shown: what the model answers."""

    user: Id
    item: Id
    value: float | None = None
    likelihood: float | None = Field(None, ge=0, le=1)
    answerable: bool = Field(description="Whether the model had something to go on.")
    reason: str | None = Field(None, description="Why not.")
    fell_back_on: str | None = Field(None, description="What the value is instead.")


class Ratings(Message):
    """Predicted values on the declared scale, or chances from 0 to 1."""

    model: str
    answers: Literal["value", "likelihood"] = "value"
    scale: tuple[float, float]
    ratings: list[Rating]


class Average(Message):
    """Observed against predicted for one item, over the users who gave it a value."""

    item: str
    count: int
    observed: float
    predicted: float
