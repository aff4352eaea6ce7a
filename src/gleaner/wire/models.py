"""Trained models and what they answer."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field

from gleaner.wire.common import MAX_CONTEXT, NAME_PART, ContextName, ContextValue, Id, Label, Message, UploadName
from gleaner.wire.contests.contest import PrepareSpec, SplitSpec

ModelName = Annotated[str, Field(pattern=rf"^{NAME_PART}(\.{NAME_PART})?$", examples=["first-look.als"])]
"""A name, or two with a dot between, as a contest's models have."""


class Round(Message):
    """One iteration of a fit."""

    iteration: int
    seconds: float = Field(description="Since the fit began.")
    losses: dict[str, float | None] = Field(description="Mean losses; null where one is no longer a number.")
    metrics: dict[str, float] = Field(description="Validation metrics, in rounds that were judged.")


class JobRound(Round):
    """One iteration of a fit within a job."""

    contender: str
    part: str = Field(description="What it is fitted for: validation, test, everything.")


class WatchSpec(Message):
    """How a fit with iterations is watched on the validation part."""

    metric: Label = Field(
        "ndcg@10",
        description="Decides the best iteration: a ranking metric at a cut-off, or rmse, mae or r2 of values.",
    )
    every: int = Field(1, ge=1, le=100_000, description="Judge every so many iterations.")
    patience: int = Field(
        0, ge=0, le=100_000, description="Stop after so many judged iterations without a better one; 0: never."
    )


class TrainRequest(Message):
    """Train one model, without a contest."""

    model_config = ConfigDict(
        json_schema_extra={"example": {"data": "seeds@1", "family": "als", "params": {"rank": 64}, "on": "everything"}}
    )

    data: Label = Field(description="A dataset version such as seeds@1; without a number the newest.")
    family: Label = ""
    params: dict[Label, Any] = Field({}, max_length=100, description="Its parameters; others stay at their defaults.")
    name: ModelName | None = Field(None, description="Of the model; dataset.family unless given.")
    prepare: PrepareSpec = PrepareSpec()
    split: SplitSpec = SplitSpec()
    seed: int = Field(1, ge=0, lt=2**63)
    on: Literal["everything", "training"] = Field(
        "everything", description="All rows, for release; or the training part, watched on the validation part."
    )
    like: Label | None = Field(None, description="Take family, parameters and preparation from this model.")
    refresh: Label | None = Field(None, description="Go on from the state of this model, on newer data.")
    compare: bool = Field(False, description="With refresh: fit from scratch too, and say how the lists differ.")
    watch: WatchSpec = WatchSpec()
    confirm: bool = Field(False, description="Train although the estimate is over a limit.")


class Estimate(Message):
    """What a fit will take, before it starts."""

    family: str
    users: int
    items: int
    cells: int
    seconds: float
    memory_mb: float
    limit_seconds: float
    limit_memory_mb: float
    over: list[str] = Field(description="Which limits it is over.")
    based_on: str


class Family(Message):
    """One model family."""

    family: str
    group: str
    summary: str
    feedback: str
    source: str
    unfit: str
    cost: str = Field(description="Of a fit, in words.")
    predicts_values: bool
    takes_features: bool = Field(description="Whether it looks at columns of the item and user tables.")
    takes_context: bool = Field(description="Whether it looks at columns of the interaction.")
    folds_in: bool
    folds_in_items: bool
    personal: bool
    params: dict[str, Any] = Field(description="Parameters with their defaults.")
    meanings: dict[str, str] = Field(description="What each parameter means.")


class ModelSummary(Message):
    """One registered model."""

    name: str = Field(examples=["spring-comparison.als@1"])
    family: str
    params: dict[str, Any]
    data: str = Field(description="The dataset version; of an imported model, where it was trained.")
    run: str | None = Field(description="The contest's run it came from, if it did.")
    users: int
    items: int
    cells: int
    created_at: datetime
    decided_by: str | None = Field(description="The metric its contest was decided by, if it came from one.")
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
    peak_memory_mb: float = Field(description="Of the fit, above what the process used before.")
    summary: str
    feedback: str
    folds_in: bool
    folds_in_items: bool
    predicts_values: bool
    has_factors: bool
    unfit: str = Field(description="When not to use this family.")
    source: str = Field(description="Where the method comes from.")
    scale: tuple[float, float] | None = Field(None, description="Lowest and highest value it predicts.")
    origin: str = Field(description="contest, train, refresh or import.")
    parent: str | None = Field(None, description="The model it was refreshed from, or refitted after.")
    note: str | None = Field(None, description="What a refresh differs by from a full refit.")
    rounds: list[Round] = []
    best_iteration: int | None = None
    warnings: list[str] = []
    columns: dict[str, list[str]] = Field(
        {}, description="Columns that it looked at, by the parameter that names them or takes all there are."
    )
    importance: dict[str, float] = Field(
        {}, description="Share of each input in what a learned order gained, most first; of families that weigh inputs."
    )
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
    """Pairs whose values are wanted."""

    pairs: list[Pair] = Field(min_length=1, max_length=100_000)


class Rating(Message):
    """A predicted value."""

    user: Id
    item: Id
    value: float
    answerable: bool = Field(description="Whether the model had something to go on.")
    reason: str | None = Field(None, description="Why not.")
    fell_back_on: str | None = Field(None, description="What the value is instead.")


class Ratings(Message):
    """Predicted values on the declared scale."""

    model: str
    scale: tuple[float, float]
    ratings: list[Rating]


class Average(Message):
    """Observed against predicted for one item, over the users who gave it a value."""

    item: str
    count: int
    observed: float
    predicted: float


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
    list: Places


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


class FactorsReport(Message):
    """What the factors of a model stand for."""

    model: str
    factors: list[FactorReport]
    map: list[MapPoint]


class RemovedModel(Message):
    """A model that is gone from the registry."""

    model: str


class TakeRequest(Message):
    """A model folder, zipped and uploaded."""

    upload: UploadName
    name: ModelName | None = Field(None, description="Of the model; as it was called unless given.")
