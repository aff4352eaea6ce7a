"""Shelves: the file that declares one, its versions, and the answers it serves."""

from __future__ import annotations

import math
from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field, computed_field, model_validator

from gleaner.wire.common import MAX_CONTEXT, ContextName, FieldProblem, Id, Message, Name
from gleaner.wire.models.lists import Places
from gleaner.wire.shelves.changes import ModelChange
from gleaner.wire.shelves.refreshes import RefreshSpec
from gleaner.wire.shelves.sources import (
    ApproximateSpec,
    CandidateSpec,
    FallbackSpec,
    NewItemsSpec,
    OrderSpec,
    ScoreSpec,
)

MAX_N = 1000
MAX_EXPLAINED = 50
MAX_RECENT = 500
MAX_USER = 1000
MAX_SHOWN = 100
Given = Annotated[str, Field(max_length=1000)] | bool | Annotated[int, Field(ge=-(2**63), lt=2**63)] | float | None
"""A value that a request brings for its conditions."""


class PromotedSpec(Message):
    """Places for items of a condition, the best of them for who asks first. Either a share of the list, spread evenly,
    or places."""

    where: str = Field(max_length=4000, description="A condition, in the shelf's language.")
    share: float | None = Field(None, gt=0, le=1, description="Of the places, to the nearest whole number.")
    places: list[int] = Field([], max_length=MAX_N, description="Counted from 1.")

    @model_validator(mode="after")
    def _either(self) -> PromotedSpec:
        if (self.share is None) == (not self.places):
            raise ValueError("give a share of the list or the places, one of the two")
        if any(place < 1 for place in self.places):
            raise ValueError("places are counted from 1")
        if len(set(self.places)) < len(self.places):
            raise ValueError("a place is named twice")
        return self


class LimitSpec(Message):
    """At most so many items of one category in a list, promoted and pinned ones included."""

    column: str = Field(description="An item column; of a column of lists every entry counts.")
    most: int = Field(ge=1)


class PinSpec(Message):
    """An item at a place, unless it is left out or the shelf's condition does not hold for it."""

    item: str
    place: int = Field(ge=1, le=MAX_N)


class SlotsSpec(Message):
    """Places that are given away before the order by score fills the rest."""

    promoted: PromotedSpec | None = None
    limit: LimitSpec | None = None
    pinned: list[PinSpec] = Field([], max_length=MAX_N)

    @model_validator(mode="after")
    def _apart(self) -> SlotsSpec:
        places = [pin.place for pin in self.pinned]
        if len(set(places)) < len(places):
            raise ValueError("two items are pinned to the same place")
        items = [pin.item for pin in self.pinned]
        if len(set(items)) < len(items):
            raise ValueError("an item is pinned twice")
        both = sorted(set(places) & set(self.promoted.places if self.promoted else []))
        if both:
            raise ValueError(f"place {both[0]} is pinned, and promoted too")
        return self


class RequestsSpec(Message):
    """What the condition of a single request may name of the person it is for: whoever asks could find it out so."""

    user_columns: list[str] = Field([], max_length=200, description="Columns of users, as `:user.COLUMN`.")
    history: bool = Field(False, description="Whether it may test `item IN history(...)`.")


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
    candidates: list[CandidateSpec] = Field(
        min_length=1,
        max_length=20,
        description="Where items come from: one model ranks all that may be listed; several bring some each.",
    )
    score: ScoreSpec | None = Field(None, description="Left out: the first model among the candidates.")
    order: OrderSpec | None = None
    new_items: NewItemsSpec | None = Field(None, description="List what the model never saw, by content.")
    approximate: ApproximateSpec | None = Field(None, description="Left out: lists are exact.")
    leave_out: list[Literal["known", "recent"]] = Field(
        ["known", "recent"],
        description="known: items that the user has by rows of the data version or by events since, of the kinds that "
        "the model's preparation selects. recent: items named in the request.",
    )
    where: str | None = Field(
        None,
        max_length=4000,
        description="SQL condition over item columns, `:user.COLUMN`, `:context.NAME`, now() and the user's own "
        "history; only items it holds for are listed.",
    )
    requests: RequestsSpec = RequestsSpec()
    slots: SlotsSpec = SlotsSpec()
    fallback: list[FallbackSpec] = Field(
        min_length=1,
        max_length=10,
        description="Steps tried in order for someone unknown; one of them is a model that needs no history.",
    )
    show: list[str] = Field([], description="Item columns sent along.")
    refresh: RefreshSpec | None = Field(None, description="How it is kept fresh; left out: only by publishing.")

    def main(self) -> str | None:
        """The model that scores, of a blend the first; None where no candidate comes from a model."""
        if self.score is not None:
            return self.score.model or next(iter(self.score.blend))
        return next((each.model for each in self.candidates if each.model is not None), None)

    def renamed(self, names: dict[str, str]) -> ShelfSpec:
        """The same with other models in the places of some."""

        def put(node: Any) -> Any:
            if isinstance(node, dict):
                return {names.get(key, key): put(value) for key, value in node.items()}
            if isinstance(node, list):
                return [put(each) for each in node]
            return names.get(node, node) if isinstance(node, str) else node

        plain = self.model_dump(mode="json")
        parts = {name: put(plain[name]) for name in ("candidates", "score", "fallback")}
        return ShelfSpec.model_validate(plain | parts)

    def models(self) -> list[str]:
        """Every model that is named."""
        names = [source.model for source in self.candidates] + [step.model for step in self.fallback]
        for source in self.candidates:
            names += [part.model for part in (source.like, source.together) if part is not None]
        if self.score is not None:
            names += [self.score.model, *self.score.blend]
        return list(dict.fromkeys(name for name in names if name is not None))


class ShelfVersion(Message):
    """One published version."""

    name: str = Field(examples=["for-growers@2"])
    shelf: str
    number: int
    published_at: datetime
    spec: ShelfSpec
    file: str
    data: str = Field(description="The dataset version its models were trained on.")
    training_only: list[str] = Field(
        [], description="Models that were fitted on the training part only, and not on all rows of the version."
    )

    @computed_field  # type: ignore[prop-decorator]
    @property
    def scorer(self) -> str | None:
        """The model that scores, of a blend the first; null where no candidate comes from a model."""
        return self.spec.main()


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

    user: Id | None = Field(None, description="Left out: someone anonymous.")
    recent: list[Id] = Field([], max_length=MAX_RECENT, description="Items they just touched, newest last.")
    values: dict[Id, float] = Field(
        {},
        max_length=MAX_RECENT,
        description="What some of `recent` measure. For a model that predicts values: the value, on its scale. For "
        "others how much it counts, 1 being a typical interaction. Left out: typical.",
    )
    n: int = Field(10, ge=1, le=MAX_N)
    context: dict[
        ContextName, Given | Annotated[list[Annotated[str, Field(max_length=1000)]], Field(max_length=1000)]
    ] = Field(
        {},
        max_length=MAX_CONTEXT,
        description="Values that conditions name as `:context.NAME`, and columns of the interaction that models look "
        "at; null, or missing, if left out.",
    )
    where: str | None = Field(
        None, max_length=4000, description="One more condition, in the shelf's language, for this list alone."
    )
    candidates: list[Id] = Field(
        [], max_length=MAX_N, description="Order these, and list nothing else; what is left out stays in."
    )
    show: list[Id] | None = Field(
        None, max_length=MAX_SHOWN, description="Item columns sent along; left out: those the shelf names."
    )
    explain: bool = Field(
        False,
        description=f"Say why each item, for the first {MAX_EXPLAINED} positions at most, and what each stage did. "
        "Where reasons take longer than a second, fewer positions have one; the answer's note says how many.",
    )
    record: bool = Field(
        True,
        description="Whether the list is kept in the log of served lists and counted as traffic. False to try a shelf.",
    )

    @model_validator(mode="after")
    def _values_of_recent(self) -> RecommendRequest:
        recent = set(self.recent)
        for item, value in self.values.items():
            if item not in recent:
                raise ValueError(f"values names {item!r}, which is not among recent")
            if not math.isfinite(value):
                raise ValueError(f"the value of {item!r} is no finite number")
        return self


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
    fallback: str | None = Field(None, description="What served who cannot be served personally, and why not.")
    folded_in: str | None = Field(
        None,
        description="Who was folded in and from what: rows of the data version, events, items of the request. Such a "
        "list is personal. Missing for users whom training knew and for the fallback.",
    )
    left_out: dict[str, int] = Field({}, description="Items left out, by reason.")
    note: str | None = None
    stages: Stages | None = None


class Serving(Message):
    """When a version began to be served, and why."""

    number: int
    at: datetime
    how: Literal["published", "rolled back", "refreshed"]


class ShelfHistory(Message):
    """Every version of a shelf, and which was served when, newest first."""

    shelf: str
    serving: int
    versions: list[ShelfVersion]
    servings: list[Serving] = []


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


class ConditionPart(Message):
    """One of the parts of a condition that AND joins, and what it leaves of a model's items by itself."""

    text: str
    depends_on: list[str] = Field([], description=":user.COLUMN, :context.NAME, now() and history(); empty: nothing.")
    left: int | None = Field(None, description="Items; null where that depends on who asks.")


class Sampled(Message):
    """How many items the whole condition leaves, over users drawn at random, but for parts that name a
    context."""

    users: int
    least: int
    median: int
    most: int
    nothing: int = Field(description="Users for whom it leaves none.")


class Recall(Message):
    """How many of the exact best ten an approximate shelf finds."""

    users: int
    n: int
    mean: float
    least: float


class ShelfCheck(Message):
    """A shelf file looked at without publishing it."""

    problems: list[FieldProblem] = Field(description="Every mistake, by line; empty where it can be published.")
    warnings: list[str] = []
    models: list[str] = Field([], description="What it would be pinned to.")
    items: int | None = Field(None, description="Of the model that ranks.")
    parts: list[ConditionPart] = []
    left: int | None = Field(None, description="Items that hold the parts that depend on nothing.")
    sampled: Sampled | None = None
    context: dict[str, str] = Field({}, description="Values a request should bring, and their kinds.")
    recall: Recall | None = Field(None, description="Of an approximate shelf, against exact lists.")
    changes: list[ModelChange] = Field(
        [], description="Models that publishing would replace, add or remove; it must be confirmed."
    )
    next_refresh_at: datetime | None = Field(None, description="When its schedule would refresh it next; null: never.")


class ShelfDraft(Message):
    """A commented shelf file."""

    file: str


class ShelfDifference(Message):
    """What changed from one version of a shelf to another."""

    before: str
    after: str
    fields: list[str] = Field(description="Fields that differ, models as they are pinned.")
    lines: list[str] = Field(description="Of the files: unchanged lines begin with a blank, others with - or +.")


class RollbackRequest(Message):
    """Serve an earlier version again."""

    to: int | None = Field(None, ge=1, description="Its number; left out: the one served before.")
