"""What a contest finds: attempts, figures, contenders that are done, and who is best."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

import polars as pl

from gleaner.core.contests.comparison import AgainstBaseline, PairedComparison
from gleaner.core.contests.plan import Contender
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.metrics.likelihood import LikelihoodFacts
from gleaner.core.metrics.statistics import Interval, Verdict
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.watching import TrainingRound, Watch
from gleaner.core.tuning.importance import Effect

Stopped = Literal["attempts", "minutes", "every setting was tried"]


@dataclass(frozen=True)
class TuningAttempt:
    """One setting of a tuned contender, fitted on training and scored on validation.

    number: from 1. chosen: the parameters that vary. value: the deciding metric; of a pruned attempt the last it had.
    figures: every metric of the contest. losses: of the last iteration. message: why it failed or was stopped.
    """

    number: int
    chosen: dict[str, Any]
    state: Literal["done", "pruned", "failed"]
    seconds: float
    value: float | None = None
    figures: dict[str, float] = field(default_factory=dict)
    losses: dict[str, float] = field(default_factory=dict)
    rounds: list[TrainingRound] = field(default_factory=list)
    message: str | None = None


@dataclass(frozen=True)
class SearchResult:
    """Outcome of a search. params: all of the best attempt, whose number is `chosen`. effects: of each parameter that
    varied; empty for too few attempts."""

    params: dict[str, Any]
    method: str
    chosen: int
    stopped_by: Stopped
    effects: dict[str, Effect]


@dataclass(frozen=True)
class PartFigure:
    """One metric of one contender on one part, with its interval where it has one."""

    metric: str
    part: str
    interval: Interval


@dataclass(frozen=True)
class AmountFigure:
    """The deciding metric on validation of a fit on a share of the training cells."""

    share: float
    cells: int
    seconds: float
    interval: Interval


@dataclass(frozen=True, eq=False)
class ContenderResult:
    """One contender that is done. columns: what the model that is kept looked at, by the parameter that names them.

    model: the one that is kept, fitted on `train`; watch: the rounds of that fit. per_user: a row for each user of
    each part, see `figures.per_user_frame`. Seconds and MB: of all its fits; final_seconds: of the fit that is kept.
    likelihood: what its chances are worth, of a model that has any.
    """

    contender: Contender
    model: Model
    train: InteractionMatrix
    watch: Watch
    figures: list[PartFigure]
    per_user: pl.DataFrame
    against: AgainstBaseline
    fit_seconds: float
    fit_memory_mb: float
    evaluate_seconds: float
    final_seconds: float
    list_ms: float
    search: SearchResult | None = None
    amounts: list[AmountFigure] = field(default_factory=list)
    columns: dict[str, list[str]] = field(default_factory=dict)
    likelihood: LikelihoodFacts | None = None

    def figure(self, metric: str, part: str = "test") -> Interval | None:
        """One figure by its label; None where it has none."""
        return next((each.interval for each in self.figures if (each.metric, each.part) == (metric, part)), None)


@dataclass(frozen=True, eq=False)
class ContestOutcome:
    """Who is best on the part that chooses, and every pair on the test part; None where no metric tells users apart.
    verdicts: of every other contender against the baseline, as all pairs together allow them."""

    winner: str
    comparison: PairedComparison | None
    verdicts: dict[str, Verdict] = field(default_factory=dict)
