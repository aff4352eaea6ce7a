"""Which contender of a run to release."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from gleaner.wire.common import Label, Message
from gleaner.wire.models.training import ModelName


class ChoicePoint(Message):
    """One contender by the deciding metric and by what it is weighed against."""

    contender: str
    model: str | None
    figure: float = Field(description="The deciding metric on the part that chooses.")
    against: float | None = None
    on_frontier: bool = Field(description="No other contender is at least as good in both, and better in one.")
    level: bool = Field(description="It cannot be told from the best at this size, or is the best.")


class Choice(Message):
    """The contender to release, and why."""

    run: str
    metric: str
    against: str | None = None
    against_less_is_better: bool = False
    part: Literal["validation", "test"] = Field(description="What chooses: validation where there is one.")
    chosen: str
    model: str | None
    why: str
    points: list[ChoicePoint] = Field(description="Best first.")


class ReleaseRequest(Message):
    """Fit a contender of a run for release: its parameters and preparation, on every row."""

    contender: Label | None = Field(None, description="Left out: the one that choosing names.")
    against: Label | None = Field(None, description="What choosing weighs the deciding metric against.")
    data: Label | None = Field(None, description="Another version of the data than the run's.")
    name: ModelName | None = Field(None, description="Of the model; CONTEST.CONTENDER unless given.")
    confirm: bool = Field(False, description="Train although the estimate is over a limit.")
