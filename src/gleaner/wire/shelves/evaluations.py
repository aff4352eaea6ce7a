"""A shelf before anyone is served by it: what is asked, and what its lists for a test part are worth."""

from __future__ import annotations

from pydantic import Field, model_validator

from gleaner.wire.common import Label, Message
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.contests.runs import ContestComparison, Figure, PairDifference
from gleaner.wire.lists import BesideFigures


class EvaluateShelfRequest(Message):
    """Evaluate a published shelf, or a file, on the test part of a run."""

    shelf: Label | None = Field(
        None, description="A published shelf, or one of its versions.", examples=["for-growers"]
    )
    file: FileRequest | None = Field(None, description="Or a shelf file, which need not be published.")
    beside: Label = Field(description="A run: its data, preparation, split, metrics and contenders.")
    users: int = Field(
        5_000, ge=1, le=1_000_000, description="At most so many users of the test part, drawn by its seed."
    )

    @model_validator(mode="after")
    def _either(self) -> EvaluateShelfRequest:
        if (self.shelf is None) == (self.file is None):
            raise ValueError("name a shelf or give a file, one of both")
        return self


class FittedMember(Message):
    """One model of the shelf, fitted on what the test part leaves."""

    model: str
    family: str
    seconds: float
    memory_mb: float
    by_the_run: bool = Field(False, description="It is a contender of the run, which fitted it; it was only read.")


class SourceReport(Message):
    """What one source of candidates brings."""

    name: str
    taken: float = Field(description="Candidates of a user, on average.")
    recall: Figure = Field(description="Share of a user's relevant items that are among them.")


class CandidatesReport(Message):
    """What the candidates are worth, and how well they are put in order."""

    sources: list[SourceReport] = Field(description="Each, and last all together.")
    users: int = Field(
        description="Users with a relevant item among their candidates, whom the figures below are over."
    )
    scored: list[Figure] = Field(description="In the order of what scores them; only relevant items among them count.")
    brought: list[Figure] = Field(description="As the sources bring them, taking turns.")


class ShelfVariant(Message):
    """The shelf with one part taken away."""

    label: str = Field(examples=["without slots"])
    figures: list[Figure]


class StageMedian(Message):
    """One stage of a list: medians over some users."""

    stage: str
    items: float
    milliseconds: float


class ShelfEvaluation(Message):
    """What a shelf's lists for the users of a test part are worth, stage by stage."""

    label: str = Field(examples=["shelf for-growers"])
    data: str
    beside: str
    users: int
    users_of_part: int = Field(description="Users of the test part with a relevant item, of whom `users` were drawn.")
    for_everyone: int = Field(description="Users who would get a list of the fallback.")
    decide_by: str
    models: list[FittedMember]
    candidates: CandidatesReport | None = Field(None, description="None where one model ranks everything.")
    figures: list[Figure] = Field(description="As served: conditions, order and slots included.")
    variants: list[ShelfVariant] = Field(description="Without slots, order or condition; as the sources bring them.")
    price: list[PairDifference] = Field([], description="The shelf less each variant on the deciding metric.")
    stages: list[StageMedian]
    contenders: list[BesideFigures]
    comparison: ContestComparison | None = Field(None, description="The shelf and the run's contenders, user by user.")
    left_out: list[str] = Field([], description="Metrics of the run that lists alone do not give.")
    notes: list[str] = Field([], description="What is otherwise than it would be served.")
