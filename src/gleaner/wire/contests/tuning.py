"""Tuning and learning curves of a run, and choosing from it."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from gleaner.wire.common import Message
from gleaner.wire.models.training import Round


class Attempt(Message):
    """One setting of a tuned contender, fitted on training and scored on validation."""

    number: int = Field(description="From 1.")
    chosen: dict[str, Any] = Field(description="The parameters that vary.")
    state: Literal["done", "pruned", "failed"]
    value: float | None = Field(None, description="The deciding metric; of a pruned attempt the last it had.")
    figures: dict[str, float] = Field({}, description="Every metric of the contest, on validation.")
    training_loss: float | None = Field(None, description="Of the last iteration, where the family has a loss.")
    validation_loss: float | None = None
    rounds: list[Round] = []
    seconds: float
    message: str | None = Field(None, description="Why it failed or was stopped.")


class ParameterEffect(Message):
    """How much one parameter mattered: omega squared of an additive model, and its 95 % bootstrap interval."""

    parameter: str
    share: float = Field(description="0 to 1; what all shares leave is interaction and noise.")
    low: float
    high: float


class TuningResult(Message):
    """What a search came to."""

    search: str
    chosen: int = Field(description="The number of the best attempt, whose parameters the contender has.")
    stopped_by: str = Field(description="attempts, minutes, or `every setting was tried`.")
    effects: list[ParameterEffect] = Field(
        [],
        description="Of the parameters that varied, the largest first: the share of the metric's variance between "
        "attempts that each explains. Empty below 20 finished attempts, or below four for each group of values.",
    )
    importance: dict[str, float] = Field(
        {}, deprecated=True, description="Shares of searches that ended before there were `effects` (PED-ANOVA)."
    )


class Tuning(Message):
    """The search of one contender: what varied, every attempt so far, and what it came to once it ended."""

    contender: str
    metric: str
    less_is_better: bool = False
    ranges: dict[str, Any]
    attempts: list[Attempt]
    result: TuningResult | None = None


class AmountPoint(Message):
    """The deciding metric on validation of a fit on a share of the training cells."""

    share: float
    cells: int
    mean: float
    low: float | None = None
    high: float | None = None
    seconds: float


class LearningCurve(Message):
    """How one contender's deciding metric on validation grows with iterations and with data."""

    contender: str
    metric: str
    rounds: list[Round] = Field(description="Iterations of the fit on training, with losses; metrics where asked for.")
    amounts: list[AmountPoint] = Field([], description="Ascending; the last is all of it.")


class MetricAgreement(Message):
    """Do metrics rank the users of one contender alike. Square tables in the order of `metrics`; null for a metric
    that is the same for everyone."""

    contender: str
    part: Literal["validation", "test"]
    users: int
    metrics: list[str]
    kendall: list[list[float | None]]
    spearman: list[list[float | None]]
