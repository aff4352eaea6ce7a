"""What a contest ranks by: metrics, cut-offs, what is relevant, and which metric decides."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field, ValidationInfo, field_validator

from gleaner.wire.common import Label, Message

VALUE_METRICS = ("rmse", "mae", "r2")
"""Metrics of predicted values; where one decides, the mean value is the baseline."""
WITHOUT_K = ("auc", "percentile_rank", *VALUE_METRICS)
"""Metrics that are not read at a cut-off."""


class RelevanceSpec(Message):
    """Which held-out rows are relevant. Left out: every one."""

    at_least: float | None = Field(None, description="Those with at least this value (or weight).")
    above_own_mean: bool = Field(False, description="Those above the mean of what training knows of the user.")


def _cut(metrics: list[str], at: list[int]) -> list[str]:
    """Every metric at every cut-off."""
    cut = [[metric] if metric in WITHOUT_K else [f"{metric}@{k}" for k in at] for metric in metrics]
    return [name for names in cut for name in names]


def _decides(data: dict[str, Any]) -> str:
    """What decides where the file does not say."""
    names = _cut(data.get("metrics", []), data.get("at", []))
    return "ndcg@10" if "ndcg@10" in names or not names else names[0]


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
        """The family that contenders are told against."""
        return "mean_value" if self.decide_by in VALUE_METRICS else "popular"

    def names(self) -> list[str]:
        """Every metric at every cut-off, in the order asked for."""
        return _cut(self.metrics, self.at)

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
        names = _cut(info.data["metrics"], info.data["at"])
        if decide_by not in names:
            raise ValueError(f"{decide_by!r} is not among the metrics asked for: {', '.join(names)}")
        return decide_by
