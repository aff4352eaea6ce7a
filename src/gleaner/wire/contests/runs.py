"""Runs of contests: what checking, dividing and running a contest file gives."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field, computed_field

from gleaner.wire.common import FieldProblem, Message
from gleaner.wire.contests.contest import ContestSpec, PrepareSpec, SplitSpec
from gleaner.wire.contests.rank import MetricFacts
from gleaner.wire.contests.tuning import TuningResult
from gleaner.wire.jobs import JobState


class ContenderEstimate(Message):
    """What one contender will take, all its fits and scorings together."""

    contender: str
    family: str
    fits: int
    seconds: float
    seconds_low: float = Field(description="The time lies between these four times out of five, by earlier work here.")
    seconds_high: float
    memory_mb: float


class Pruning(Message):
    """What the preparation prunes from all rows of a version, and how pruned users and items will be served."""

    users: int | None = Field(None, description="Users that are pruned; null for a version too large to be counted.")
    items: int | None = None
    rows: int | None = None
    text: str


class ContestCheck(Message):
    """A contest file looked at without running it."""

    problems: list[FieldProblem] = Field(description="Every mistake, by line; empty where it can be run.")
    data: str | None = Field(None, description="The version it would run on.")
    contenders: list[ContenderEstimate] = Field([], description="Estimated, where nothing is wrong.")
    seconds: float | None = None
    seconds_low: float | None = Field(
        None, description="The time lies between these four times out of five, by earlier work here."
    )
    seconds_high: float | None = None
    memory_mb: float | None = Field(None, description="The most any one contender takes.")
    based_on: str | None = Field(None, description="What the times are estimated from.")
    pruning: Pruning | None = Field(None, description="Missing if nothing is pruned.")


class ContestDraft(Message):
    """A commented contest file fitted to a dataset."""

    file: str


OPTIMISTIC = (
    "This split has no validation part: the test part chose the winner as well, so the winner's figure is optimistic. "
    "In a split with a validation part the figure comes from rows that chose nothing."
)


class Figure(Message):
    """One metric of one contender on one part: mean over users and its 95 % bootstrap interval.

    Figures that all lists have together (coverage, gini, personalisation) have no interval.
    """

    metric: str = Field(examples=["ndcg@10"])
    part: Literal["validation", "test"]
    mean: float
    low: float | None = None
    high: float | None = None


class BaselineDifference(Message):
    """Paired difference to the popularity baseline on the deciding metric, test part."""

    difference: float
    low: float
    high: float
    verdict: Literal["better", "worse", "cannot tell", "baseline"]


class Standing(Message):
    """One contender's line of the leaderboard."""

    contender: str
    family: str
    params: dict[str, Any]
    model: str | None = Field(None, description="The registered model, fitted on training and validation.")
    figures: list[Figure] = []
    against_popular: BaselineDifference | None = None
    fit_seconds: float
    evaluate_seconds: float
    peak_memory_mb: float = Field(description="Of its fits, above what the process used before.")
    list_ms: float | None = Field(None, description="One user's list from the fitted model, milliseconds: the median.")
    prepare: PrepareSpec | None = Field(None, description="What it was trained on, where that is its own.")
    tuning: TuningResult | None = Field(None, description="How its parameters were found, where they were tuned.")

    def figure(self, metric: str, part: str = "test") -> Figure | None:
        """One figure by name."""
        return next((f for f in self.figures if f.metric == metric and f.part == part), None)


class PairDifference(Message):
    """One contender less another on one metric of the test part, user by user."""

    first: str
    second: str
    difference: float
    low: float
    high: float
    p: float = Field(description="Two-sided paired t-test.")
    p_holm: float = Field(description="The same, corrected for all pairs of the run (Holm 1979).")
    users: int
    verdict: Literal["better", "worse", "cannot tell"] = Field(description="Of the first against the second.")


class Ablation(Message):
    """What one part of a preparation adds: the contender that has it less the one that lacks it."""

    contender: str
    without: str
    lacks: str = Field(examples=["kinds.view"])
    difference: float
    low: float
    high: float
    p_holm: float
    verdict: Literal["helps", "harms", "cannot tell"]


class ContestComparison(Message):
    """Every pair of contenders on one metric, and what that comes to."""

    metric: str
    leader: str = Field(description="Best on this metric of the test part.")
    pairs: list[PairDifference]
    summary: list[str] = Field(description="What can be told and what cannot, in sentences.")
    ablations: list[Ablation] = []


class SegmentFigure(Message):
    """One contender's mean in one segment, with its interval."""

    contender: str
    mean: float
    low: float | None
    high: float | None


class Segment(Message):
    """One part of the users, or of the relevant items."""

    name: str
    users: int
    pairs: int = Field(description="Relevant items of these users that belong to the segment.")
    figures: list[SegmentFigure]


class Segments(Message):
    """One metric of every contender by segments."""

    by: str
    metric: str
    part: Literal["validation", "test"]
    of: Literal["users", "items"] = Field(
        description="What is divided. Of items: only those of a segment are relevant."
    )
    segments: list[Segment]
    less_is_better: bool = False
    left_out: str | None = Field(None, description="Who is in no segment, and why.")


class PredictedBin(Message):
    """Held-out values of one bin beside the predicted ones."""

    at: float = Field(description="Where the bin begins.")
    n: int
    actual: float = Field(description="Mean of the held-out values.")
    predicted: float = Field(description="Mean of the predicted values.")
    rmse: float


class PredictedValues(Message):
    """One contender's predicted values against the held-out ones."""

    contender: str
    n: int
    by_actual: list[PredictedBin]
    by_predicted: list[PredictedBin]
    by_strictness: list[PredictedBin] = Field(description="By quarters of the users' own means in training.")


class ValueReport(Message):
    """Predicted against actual, for every contender that predicts values."""

    part: Literal["validation", "test"]
    contenders: list[PredictedValues]


class StepReport(Message):
    """What one preparation step did."""

    name: str
    rows_in: int
    rows_out: int
    note: str


class LeakReport(Message):
    """A held-out part against everything a model of its stage learns from."""

    rows: int
    same_rows: int = Field(description="Rows that stand in training too, equal in every column.")
    same_pairs: int = Field(description="Rows whose user and item met in training; they are no candidates.")
    early_rows: int | None = Field(None, description="Rows dated before the last training row.")
    early_users: int | None = Field(None, description="Rows dated before the same user's last training row.")
    verdict: str
    leaks: bool


class PartReport(Message):
    """One part of the split."""

    part: Literal["training", "validation", "test"]
    fold: int | None = Field(None, description="Which fold, from 1; null without folds.")
    shown: int | None = Field(None, description="Rows of held-out users that are shown to the model.")
    leak: LeakReport | None = None
    rows: int
    users: int
    items: int
    starts: datetime | None = None
    users_counted: int | None = Field(None, description="Users with a relevant item, over whom metrics are averaged.")
    pairs_counted: int | None = None
    unseen_users: int | None = Field(None, description="Users training never saw: not counted.")
    unseen_items: int | None = Field(None, description="Items training never saw: no model could recommend them.")
    new_users: int | None = Field(None, description="Users training never saw whose lists are judged: `split.keep`.")
    new_items: int | None = Field(None, description="Relevant items training never saw that may be listed.")
    known_pairs: int | None = Field(None, description="Pairs already in training: not candidates, not counted.")
    not_relevant: int | None = Field(None, description="New pairs below what `rank.relevant` asks for: not counted.")

    @property
    def label(self) -> str:
        """The part, with its fold where there are several."""
        return self.part if self.fold is None else f"{self.part} {self.fold}"


class RunSummary(Message):
    """One run of a contest in a list."""

    name: str = Field(examples=["spring-comparison@2"])
    contest: str
    number: int
    data: str
    state: JobState
    job: int
    created_at: datetime
    decide_by: str
    winner: str | None = None
    contenders: int


class DivideRequest(Message):
    """Prepare and split a dataset version as a contest would, without training."""

    prepare: PrepareSpec = PrepareSpec()
    split: SplitSpec = SplitSpec()
    seed: int = Field(1, ge=0)


class DivideReport(Message):
    """What preparation and split did."""

    version: str
    split: SplitSpec
    steps: list[StepReport]
    parts: list[PartReport]
    left_out: dict[str, int] = Field({}, description="Rows of no part, by reason.")
    users: int = Field(description="Users of the training matrix.")
    items: int
    cells: int


class Run(RunSummary):
    """One run with its leaderboard, best first, and what its figures mean."""

    file: str
    spec: ContestSpec
    preparation: list[StepReport] = []
    parts: list[PartReport] = []
    standings: list[Standing] = []
    definitions: dict[str, str] = {}
    less_is_better: list[str] = Field([], description="Metrics of the run of which less is better.")
    comparison: ContestComparison | None = Field(None, description="On the deciding metric, once the run is done.")

    @computed_field  # type: ignore[prop-decorator]
    @property
    def metrics(self) -> list[MetricFacts]:
        """Every metric of the run, in the order asked for, and how to read it."""
        return [MetricFacts.of(each) for each in self.spec.rank.references()]

    @computed_field  # type: ignore[prop-decorator]
    @property
    def cut(self) -> int:
        """The cut-off to look at: the deciding metric's, or the last where it has none."""
        return self.spec.rank.cut

    @computed_field  # type: ignore[prop-decorator]
    @property
    def chosen_on(self) -> Literal["validation", "test"] | None:
        """The part whose figures choose the winner: the test part where the split has no validation part. None before
        there are figures."""
        parts = {figure.part for standing in self.standings for figure in standing.figures}
        if not parts:
            return None
        return "validation" if "validation" in parts else "test"

    @computed_field  # type: ignore[prop-decorator]
    @property
    def caution(self) -> str | None:
        """What to know before the winner's figure is passed on; None where it chose nothing."""
        if self.winner is None or self.chosen_on != "test" or len(self.standings) < 2:
            return None
        return OPTIMISTIC
