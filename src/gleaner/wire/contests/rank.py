"""What a contest ranks by: metrics, cut-offs, what is relevant, and which metric decides."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, ValidationInfo, field_validator

from gleaner.core.metrics.catalogue import METRICS, MetricReference, any_of_values, labels, metric_of
from gleaner.wire.common import Label, Message


class RelevanceSpec(Message):
    """Which held-out rows are relevant. Left out: every one."""

    at_least: float | None = Field(None, description="Those with at least this value (or weight).")
    above_own_mean: bool = Field(False, description="Those above the mean of what training knows of the user.")


def _decides(data: dict[str, Any]) -> str:
    """What decides where the file does not say."""
    names = labels(data.get("metrics", []), data.get("at", []))
    return "ndcg@10" if "ndcg@10" in names or not names else names[0]


class MetricFacts(Message):
    """A metric as a contest asks for it, and how to read it."""

    label: str = Field(examples=["ndcg@10"])
    name: str = Field(examples=["ndcg"])
    k: int | None = Field(None, description="Its cut-off; null where it is not read at one.")
    per_user: bool = Field(description="Whether every user has a figure, so that contenders can be compared by it.")
    better: Literal["higher", "lower", "neither"]
    sort: Literal["ranking", "order", "lists", "values", "likelihood"] = Field(
        description="What it looks at: hits in the first k, the whole order, lists without the truth, predicted "
        "values, or the chance that an item is taken."
    )

    @classmethod
    def of(cls, reference: MetricReference) -> MetricFacts:
        """The facts of one."""
        metric = reference.metric
        return cls(
            label=reference.label,
            name=metric.name,
            k=reference.k,
            per_user=metric.per_user,
            better=metric.better,
            sort=metric.sort,
        )


class MetricKind(Message):
    """A metric that a contest can ask for, and what it says."""

    name: str = Field(examples=["ndcg"])
    definition: str
    source: str
    sort: Literal["ranking", "order", "lists", "values", "likelihood"]
    better: Literal["higher", "lower", "neither"]
    at_k: bool = Field(description="Whether it is read at cut-offs.")
    needs: Literal["", "content", "categories", "values"] = Field(
        description="What the contest must name, or the data must have."
    )

    @classmethod
    def every(cls) -> list[MetricKind]:
        """All that there are, in the order of the catalogue."""
        fields = cls.model_fields
        return [cls(**{name: getattr(each, name) for name in fields}) for each in METRICS.values()]


def baseline_family(label: str) -> str:
    """The family that contenders are compared with on a metric."""
    metric = metric_of(label)
    return "popular" if metric is None else metric.baseline


class RankSpec(Message):
    """Which ranking metrics at which cut-offs, and which one decides."""

    at: list[Annotated[int, Field(le=1_000_000)]] = Field([5, 10, 20], min_length=1, max_length=20)
    metrics: list[Label] = Field(["ndcg", "recall", "precision", "hit"], min_length=1, max_length=100)
    decide_by: Label = Field(
        default_factory=_decides,
        description="The metric that decides; ndcg@10, or where that is not asked for the first that is.",
    )
    relevant: RelevanceSpec = RelevanceSpec()
    content: list[Label] = Field([], max_length=100, description="Item columns that diversity compares.")
    categories: Label | None = Field(None, description="The item column that calibration counts.")

    @property
    def baseline(self) -> str:
        """The family that contenders are compared with: where a metric of predicted values decides, the mean value."""
        return baseline_family(self.decide_by)

    @property
    def values(self) -> bool:
        """Whether a metric of predicted values is asked for."""
        return any_of_values(self.metrics)

    @property
    def deciding(self) -> MetricReference:
        """The metric that decides. Raises ParameterError where there is none of its name."""
        return MetricReference.parse(self.decide_by)

    @property
    def cut(self) -> int:
        """The cut-off to look at: the deciding metric's, or the last where it has none."""
        return self.deciding.k or self.at[-1]

    def names(self) -> list[str]:
        """Every metric at every cut-off, in the order asked for."""
        return labels(self.metrics, self.at)

    def references(self) -> list[MetricReference]:
        """The same as references. Raises ParameterError on a metric that is not there."""
        return [MetricReference.parse(name) for name in self.names()]

    def beside(self) -> list[MetricReference]:
        """The metrics to show beside the deciding one: those at its cut-off, and those without one."""
        return [each for each in self.references() if each.label != self.decide_by and each.k in (None, self.cut)]

    @field_validator("at")
    @classmethod
    def _cutoffs(cls, at: list[int]) -> list[int]:
        if any(k < 1 for k in at):
            raise ValueError("every cut-off must be at least 1")
        return sorted(set(at))

    @field_validator("metrics")
    @classmethod
    def _once(cls, metrics: list[str]) -> list[str]:
        return list(dict.fromkeys(metrics))

    @field_validator("decide_by")
    @classmethod
    def _asked_for(cls, decide_by: str, info: ValidationInfo) -> str:
        if not {"metrics", "at"} <= info.data.keys():
            return decide_by  # these are wrong themselves
        names = labels(info.data["metrics"], info.data["at"])
        if decide_by not in names:
            raise ValueError(f"{decide_by!r} is not among the metrics asked for: {', '.join(names)}")
        return decide_by
