"""Lists of a model: items for users, users for items, and what is like an item or a user."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import ConfigDict, Field

from gleaner.wire.common import Id, Message


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


class ModelPlace(Recommended):
    """One place of a model's list."""

    likelihood: float | None = Field(
        None, description="Chance that the user takes the item when shown, of a model that has chances."
    )


ModelPlaces = list[ModelPlace]
"""The same for lists of models."""


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
    list: ModelPlaces
    note: str | None = None


class AudienceMember(Message):
    """One user of an audience."""

    user: str
    position: int
    score: float
    columns: dict[str, Any] = {}


class Neighbour(Message):
    """One neighbour."""

    id: str
    position: int
    likeness: float
    raw: float | None = Field(
        None, description="Before it is shrunk; where the model's likeness can be redone by hand."
    )
    overlap: int | None = Field(None, description="How much both have.")
    columns: dict[str, Any] = {}


class Audience(Message):
    """The users who would like one item most."""

    model: str
    item: str | None
    where_keeps: int | None = None
    users: list[AudienceMember]


class Similar(Message):
    """Items like an item, or users like a user."""

    model: str
    id: str
    side: Literal["item", "user"]
    by: str = Field(description="What likeness is measured by.")
    list: list[Neighbour]


class ListsRequest(Message):
    """Lists for several users, or for someone from a few items."""

    users: list[Id] = Field([], max_length=10_000)
    items: list[Id] = Field([], max_length=1_000, description="Instead of users: what someone new has touched.")
    values: list[float] | None = Field(None, max_length=1_000, description="One for each of items.")
    n: int = Field(10, ge=1, le=1000)
    include_known: bool = False
    candidates: list[Id] | None = Field(None, max_length=100_000, description="Only these items, put in order.")
    where: str | None = Field(None, max_length=4000, description="SQL condition over item columns.")


class AudienceRequest(Message):
    """Audiences of several items, or of an item training never saw from users who touched it."""

    items: list[Id] = Field([], max_length=10_000)
    users: list[Id] = Field([], max_length=100_000, description="Instead of items: who touched the new item.")
    values: list[float] | None = Field(None, max_length=100_000, description="One for each of users.")
    n: int = Field(10, ge=1, le=1000)
    include_known: bool = False
    candidates: list[Id] | None = Field(None, max_length=100_000, description="Only these users, put in order.")
    where: str | None = Field(None, max_length=4000, description="SQL condition over user columns.")


class AllRequest(Message):
    """Lists for everybody, as a file."""

    model_config = ConfigDict(json_schema_extra={"example": {"what": "items", "n": 10}})

    what: Literal["items", "users", "similar_items", "similar_users"] = Field(
        "items",
        description="Items for every user, users for every item, or what is like every item or user.",
    )
    n: int = Field(10, ge=1, le=1000)
    include_known: bool = False
    where: str | None = Field(None, max_length=4000, description="SQL condition over the columns of what is listed.")


class ModelLists(Message):
    """Answers to a ListsRequest, in its order."""

    model: str
    where_keeps: int | None = None
    unknown: list[str] = Field(description="Users training never saw; they have no list.")
    lists: list[OneList]


class OneList(Message):
    """The list of one user; of nobody in particular where items were given."""

    user: str | None
    list: ModelPlaces
