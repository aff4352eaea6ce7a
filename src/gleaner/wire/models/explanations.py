"""What a score is made of, and what factors stand for."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from gleaner.wire.common import Message


class ExplainTerm(Message):
    """One summand."""

    id: str
    name: str | None = None
    columns: dict[str, float]


class ModelExplanation(Message):
    """Why a score is what it is: start + the sum of `adds` = result."""

    model: str
    user: str
    item: str
    kind: Literal["sum", "nearest"]
    score: float
    start: float
    result: float | None
    formula: str
    apart: str | None = Field(None, description="Why the result is not the score, where four decimals show it.")
    side: Literal["item", "user", "input"] = Field(description="What each term is of.")
    value: float | None = Field(None, description="The result on the declared scale, for models that predict values.")
    terms: list[ExplainTerm]


class FactorEnd(Message):
    """An item at one end of a factor."""

    item: str
    name: str | None = None
    at: float


class FactorReport(Message):
    """One factor: its share of the variance of all scores and the items at its ends."""

    factor: int
    share: float
    top: list[FactorEnd]
    bottom: list[FactorEnd]


class MapPoint(Message):
    """An item on the two leading factors."""

    item: str
    name: str | None = None
    x: float
    y: float
    count: int = Field(description="Users who have it.")
    value: str | None = Field(None, description="What it has in the column that the map is coloured by.")


class FactorsReport(Message):
    """What the factors of a model stand for."""

    model: str
    factors: list[FactorReport]
    map: list[MapPoint]
    columns: list[str] = Field([], description="Of the item table: those that the map can be coloured by.")
