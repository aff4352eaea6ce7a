"""Contests: the file that declares one, and what running it gives."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import ConfigDict, Field, field_validator, model_validator

from gleaner.wire.common import Message, Name
from gleaner.wire.jobs import JobState

CONTENDER_KEYS = ("as",)


class PrepareSpec(Message):
    """From raw rows to a training matrix."""

    kinds: dict[str, float] = Field({}, description="Weight per kind; kinds not named are dropped. Empty keeps all.")
    use: Literal["weights", "values"] | None = Field(
        None,
        description="What a row measures. Left out: weights, or values where the data has them and no kinds are given.",
    )
    merge: Literal["sum", "count", "max", "mean", "latest"] = "sum"
    min_user: int = Field(1, ge=1, description="Prune users with fewer items.")
    min_item: int = Field(1, ge=1, description="Prune items with fewer users.")


class SplitSpec(Message):
    """How rows are divided."""

    by: Literal["time"] = "time"
    test: float = Field(0.1, gt=0, lt=0.9)
    validation: float = Field(0.1, ge=0, lt=0.9)


class RankSpec(Message):
    """Which ranking metrics at which cut-offs, and which one decides."""

    at: list[int] = Field([5, 10, 20], min_length=1, max_length=20)
    metrics: list[str] = Field(["ndcg", "recall", "precision", "hit"], min_length=1)
    decide_by: str = "ndcg@10"

    def names(self) -> list[str]:
        """Every metric at every cut-off, in the order asked for."""
        return [f"{metric}@{k}" for metric in self.metrics for k in self.at]

    @field_validator("at")
    @classmethod
    def _cutoffs(cls, at: list[int]) -> list[int]:
        if any(k < 1 for k in at):
            raise ValueError("every cut-off must be at least 1")
        return sorted(set(at))

    @model_validator(mode="after")
    def _decides(self) -> RankSpec:
        if self.decide_by not in self.names():
            possible = ", ".join(self.names())
            raise ValueError(f"decide_by {self.decide_by!r} is not among the metrics asked for: {possible}")
        return self


class ContenderSpec(Message):
    """One model configuration. In the file: `als`, or `als: {rank: 64}`, with `as: name` to tell two apart."""

    label: Name
    family: str
    params: dict[str, Any] = {}


class ContestSpec(Message):
    """A contest file."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "contest": "spring-comparison", "data": "seeds@1",
                "prepare": {"kinds": {"view": 1, "save": 3, "request": 5}, "min_user": 5, "min_item": 5},
                "split": {"by": "time", "test": 0.1, "validation": 0.1},
                "rank": {"at": [5, 10, 20], "metrics": ["ndcg", "recall"], "decide_by": "ndcg@10"},
                "contenders": ["popular", {"item_knn": {"neighbours": 100}}, {"als": {"rank": 32}}],
            }
        }
    )  # fmt: skip

    contest: Name
    data: str = Field(description="A dataset version such as seeds@1; without a number the newest.")
    prepare: PrepareSpec = PrepareSpec()
    split: SplitSpec = SplitSpec()
    rank: RankSpec = RankSpec()
    contenders: list[ContenderSpec] = Field(min_length=1, max_length=200)
    seed: int = Field(1, ge=0)

    @field_validator("contenders", mode="before")
    @classmethod
    def _short_forms(cls, given: Any) -> Any:
        if not isinstance(given, list):
            raise ValueError("contenders must be a list")
        return [_contender(entry) for entry in given]

    @model_validator(mode="after")
    def _fair(self) -> ContestSpec:
        families = [contender.family for contender in self.contenders]
        if "popular" not in families:
            # a leaderboard without the popularity baseline must never happen
            self.contenders.insert(0, ContenderSpec(label="popular", family="popular"))
        labels = [contender.label for contender in self.contenders]
        repeated = sorted({label for label in labels if labels.count(label) > 1})
        if repeated:
            raise ValueError(f"two contenders are called {repeated[0]!r}; give one another name with `as:`")
        return self


def _contender(entry: Any) -> Any:
    """Read the short forms of a contender."""
    if isinstance(entry, str):
        return {"label": entry, "family": entry}
    if not isinstance(entry, dict) or "family" in entry:
        return entry
    families = [key for key in entry if key not in CONTENDER_KEYS]
    if len(families) != 1:
        raise ValueError(f"a contender names one model family, this one names {families or 'none'}")
    params = entry[families[0]] or {}
    if not isinstance(params, dict):
        raise ValueError(f"the parameters of {families[0]} must be a mapping, not {params!r}")
    return {"label": entry.get("as", families[0]), "family": families[0], "params": params}


class FileRequest(Message):
    """A contest or shelf file, as text."""

    file: str = Field(min_length=1, max_length=200_000, description="YAML 1.2")
    name: str = Field("file.yaml", description="What to call it in messages.")


class Figure(Message):
    """One metric of one contender on one part: mean over users and its 95 % bootstrap interval."""

    metric: str = Field(examples=["ndcg@10"])
    part: Literal["validation", "test"]
    mean: float
    low: float
    high: float


class Against(Message):
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
    against_popular: Against | None = None
    fit_seconds: float
    evaluate_seconds: float
    peak_memory_mb: float

    def figure(self, metric: str, part: str = "test") -> Figure | None:
        """One figure by name."""
        return next((f for f in self.figures if f.metric == metric and f.part == part), None)


class StepReport(Message):
    """What one preparation step did."""

    name: str
    rows_in: int
    rows_out: int
    note: str


class PartReport(Message):
    """One part of the split."""

    part: Literal["training", "validation", "test"]
    rows: int
    users: int
    items: int
    starts: datetime | None = None
    users_counted: int | None = Field(None, description="Users with a relevant item, over whom metrics are averaged.")
    pairs_counted: int | None = None
    unseen_users: int | None = Field(None, description="Users training never saw: not counted.")
    unseen_items: int | None = Field(None, description="Items training never saw: no model could recommend them.")
    known_pairs: int | None = Field(None, description="Pairs already in training: not candidates, not counted.")


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


class Run(RunSummary):
    """One run with its leaderboard, best first, and what its figures mean."""

    file: str
    spec: ContestSpec
    preparation: list[StepReport] = []
    parts: list[PartReport] = []
    standings: list[Standing] = []
    definitions: dict[str, str] = {}
