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


class LikenessStep(Message):
    """One step of a likeness worked by hand."""

    what: str
    worked: str = Field(description="Its numbers written out.")
    result: float


class LikenessEntry(Message):
    """Numbers that both have of one user, item or factor."""

    id: str
    name: str | None = None
    columns: dict[str, float] = Field(description="`one`, `other`, and what the formula makes of them.")


class LikenessByHand(Message):
    """How alike two items, or users, are: what goes in, each step, the result."""

    model: str
    side: Literal["item", "user"]
    one: str
    other: str
    one_name: str | None = None
    other_name: str | None = None
    by: str = Field(description="What likeness is measured by.")
    entries_of: Literal["user", "item", "factor"]
    entries: list[LikenessEntry] = Field(description="Those that weigh most.")
    entries_in_all: int
    steps: list[LikenessStep]
    result: float = Field(description="What the last step comes to.")
    model_has: float = Field(description="What the model itself goes by.")
    note: str | None = Field(None, description="Why the two differ, where they do.")


class EndTrait(Message):
    """What the items at one end of a factor have more often than all items, or of numbers, higher or lower."""

    column: str = Field(description="Of the item table, or `users who have it`.")
    value: str | None = Field(None, description="What the column says; absent for numbers.")
    here: float = Field(description="Share of the items at this end that have it; of numbers, their middle.")
    overall: float = Field(description="The same of all items.")


class FactorReport(Message):
    """One factor: its share of the variance of all scores, the items at its ends and what those have in common."""

    factor: int
    share: float
    top: list[FactorEnd]
    bottom: list[FactorEnd]
    top_traits: list[EndTrait] = Field([], description="The surest first; none where no column stands out.")
    bottom_traits: list[EndTrait] = []


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
    end_items: int = Field(0, description="How many items at each end the traits are of.")
