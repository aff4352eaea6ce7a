"""What a contest compares, and by what: the file's declarations, in the words of the engine."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from gleaner.core.metrics.catalogue import MetricReference, labels
from gleaner.core.metrics.evaluation import RankPlan
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.tuning.attempts import Method

FEATURES = "features"
"""What leaving out columns of the item and user tables is called: all, or after a dot which."""

MEMBERS = "members"
"""What leaving out one of several models is called, after a dot which."""

LAYERS = "layers"
"""What leaving out the depth of a network is called."""


@dataclass(frozen=True)
class SearchPlan:
    """How parameters with ranges are searched. minutes: no new attempt begins after so long. prune: stop attempts that
    are below the median of earlier ones as they iterate."""

    method: Method = "bayesian"
    attempts: int = 20
    minutes: float | None = None
    prune: bool = True


@dataclass(frozen=True)
class Contender:
    """One model configuration.

    preparation: its own, on what it is trained on. search: how parameters with ranges are found; None where none has a
    range. ablates: the contender that this one is, but for the part `lacks`.
    """

    label: str
    family: str
    params: dict[str, Any] = field(default_factory=dict)
    preparation: Preparation | None = None
    search: SearchPlan | None = None
    ablates: str | None = None
    lacks: str | None = None

    @property
    def lacks_member(self) -> str | None:
        """The family of the members that it is another contender without."""
        part, _, name = (self.lacks or "").partition(".")
        return name if part == MEMBERS else None

    @property
    def lacks_layers(self) -> bool:
        """Whether it is another contender with as little depth as its family takes."""
        return self.lacks == LAYERS

    @property
    def lacks_features(self) -> bool:
        """Whether it is another contender without columns of the item and user tables."""
        return (self.lacks or "").partition(".")[0] == FEATURES


HITS = ("recall", "precision", "hit")
"""Ranking metrics that say how much of what was taken a list has: they cost nothing once it is there."""


def epoch_plan(decide_by: MetricReference, usual: int, seed: int) -> RankPlan:
    """The deciding metric, and beside one of rankings those of HITS at its cut-off, `usual` where it has none."""
    beside = [] if decide_by.of_values else [name for name in HITS if name != decide_by.name]
    return RankPlan([decide_by.name, *beside], [decide_by.k or usual], seed)


@dataclass(frozen=True)
class ContestPlan:
    """What is compared, and by what.

    metrics, at: the metrics and cut-offs of every contender; decide_by: the one that decides. content, categories: the
    item columns that diversity and calibration look at. every, amounts: learning curves on the validation part, by
    iterations and by shares of the training cells.
    """

    contenders: list[Contender]
    metrics: list[str]
    at: list[int]
    decide_by: MetricReference
    seed: int = 1
    content: list[str] = field(default_factory=list)
    categories: str | None = None
    every: int | None = None
    amounts: list[float] = field(default_factory=list)

    @property
    def baseline(self) -> str:
        """The label of the contender that all others are compared with."""
        return next(each.label for each in self.contenders if each.family == self.decide_by.metric.baseline)

    @property
    def sign(self) -> int:
        """1 where more of the deciding metric is better, -1 where less is."""
        return self.decide_by.sign

    @property
    def labels(self) -> list[str]:
        """Every metric at every cut-off, in order."""
        return labels(self.metrics, self.at)

    @property
    def whole(self) -> RankPlan:
        """Every metric asked for."""
        return RankPlan(self.metrics, self.at, self.seed)

    @property
    def deciding(self) -> RankPlan:
        """The deciding metric alone."""
        return RankPlan([self.decide_by.name], [self.decide_by.k or max(self.at)], self.seed)

    @property
    def by_epoch(self) -> RankPlan:
        """What a model that finds its end is judged by after each epoch."""
        return epoch_plan(self.decide_by, max(self.at), self.seed)

    @property
    def own_preparations(self) -> dict[str, Preparation]:
        """Preparations of single contenders, by label."""
        return {each.label: each.preparation for each in self.contenders if each.preparation is not None}

    def in_order(self) -> list[Contender]:
        """The baseline first, because every other is compared with it; those made of others after these, which need not
        be fitted again; what lacks a part last: it takes the parameters found for the whole."""
        return sorted(
            self.contenders,
            key=lambda each: (each.label != self.baseline, each.ablates is not None, "members" in each.params),
        )

    def ablations(self) -> list[tuple[str, str, str]]:
        """Contenders that are others but for one part: label, the other's label, the part."""
        return [(each.label, each.ablates, each.lacks or "") for each in self.contenders if each.ablates]
