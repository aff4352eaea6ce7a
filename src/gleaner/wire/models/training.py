"""Fits of models: what can be fitted, what one is expected to cost, and how it goes."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field

from gleaner.wire.common import NAME_PART, Label, Message
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
    fallback_like: Label | None = Field(
        None,
        description="Also fit a model like this one on the same rows: a fallback for users whom the first cannot "
        "serve.",
    )
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
    seconds_low: float = Field(description="The time lies between these four times out of five, by earlier work here.")
    seconds_high: float
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
