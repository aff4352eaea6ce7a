"""Models that are kept, and what is known of each."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import ConfigDict, Field

from gleaner.wire.common import Message, UploadName
from gleaner.wire.models.training import ModelName, Round


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


class ReliabilityBin(Message):
    """Pairs of about the same chance."""

    model_config = ConfigDict(allow_inf_nan=False)

    said: float = Field(ge=0, le=1, description="Their mean chance.")
    taken: float = Field(ge=0, le=1, description="The share that was taken.")
    low: float = Field(ge=0, le=1, description="Where the 95 % interval of that share begins.")
    high: float = Field(ge=0, le=1, description="Where it ends.")
    pairs: float = Field(ge=0, description="How many pairs that stands for.")


class Likelihood(Message):
    """The chance that a user takes an item when shown: calibrated on the validation part of the model's contest, and
    what it was worth on the test part. Every item that a user lacks is a candidate, each as likely to be shown."""

    # a card comes with a model folder that anybody may have written
    model_config = ConfigDict(allow_inf_nan=False)

    slope: float = Field(description="chance = 1 / (1 + exp(-(slope * log-odds + intercept))).")
    intercept: float
    brier: float = Field(ge=0, description="Mean squared distance of the chance from what happened.")
    log_loss: float = Field(ge=0, description="Mean of -log of the chance of what happened.")
    base_rate: float = Field(ge=0, le=1, description="The share of all candidates that was taken.")
    reliability: list[ReliabilityBin] = Field(max_length=100)


class NetworkPiece(Message):
    """One part of a network."""

    side: Literal["user", "item", "both"]
    name: str
    takes: str = Field(description="What goes in, or is looked up.")
    width: int = Field(description="How many numbers come out.")
    weights: int = Field(description="How many are learned in it.")


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
    provenance: str = Field("", description="Which rows it was fitted on and by what, in words.")
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
    network: list[NetworkPiece] = Field(
        [], description="What a network is made of, in the order numbers go through it."
    )
    chosen: dict[str, float] = Field(
        {}, description="Parameters that were left to the fit, and what it chose; those of a member after its family."
    )
    likelihood: Likelihood | None = Field(
        None,
        description="Of a model that answers chances; calibrated in its contest, which must have a validation part.",
    )
    state_sha256: str
    matrix_sha256: str


class RemovedModel(Message):
    """A model that is gone from the registry."""

    model: str


class TakeRequest(Message):
    """A model folder, zipped and uploaded."""

    upload: UploadName
    name: ModelName | None = Field(None, description="Of the model; as it was called unless given.")
