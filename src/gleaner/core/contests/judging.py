"""The one judge: a model as it stands, scored on one stage by the metrics asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import cast

import numpy as np

from gleaner.core.contests.parts import OwnTraining, SplitStage
from gleaner.core.metrics.catalogue import any_of_values, labels
from gleaner.core.metrics.evaluation import Figures, RankPlan, evaluate
from gleaner.core.metrics.exposure import ContentVectors
from gleaner.core.metrics.likelihood import LikelihoodPairs, LikelihoodScores, calibrated
from gleaner.core.metrics.statistics import Interval
from gleaner.core.metrics.values import Predictions, predictions
from gleaner.core.models.base.capabilities import PredictsValues, having_log_odds
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.values import ValueModel
from gleaner.core.models.base.watching import HeldOutCells
from gleaner.core.parallel import Progress

NO_CONTENT = ContentVectors()


@dataclass(frozen=True, eq=False)
class StageScores:
    """One model on one stage: ranking figures, and predicted values where it predicts them. held: the values of the
    stage, where the plan asks about values: every model has a row for each user of theirs."""

    stage: SplitStage
    figures: Figures
    held_out: HeldOutCells | None = None
    predictions: Predictions | None = None
    likelihood: LikelihoodScores | None = None

    def interval(self, label: str) -> Interval | None:
        """The mean of one metric; None where the model has none."""
        if self.predictions is not None and any_of_values([label]):
            return Interval(self.predictions.errors()[label], None, None)
        return self.figures.means.get(label)


@dataclass(frozen=True, eq=False)
class StageJudge:
    """Scores models on a stage. ties: the order of equal scores, int (n_items,). content: what diversity and
    calibration look at. own: what the model was fitted on, where that is not what all are. chances: score those
    of models that have log-odds too, by a calibration, which is learned from the stage where it is of validation."""

    stage: SplitStage
    plan: RankPlan
    ties: np.ndarray
    content: ContentVectors = NO_CONTENT
    own: OwnTraining | None = None
    chances: bool = False
    calibration: Calibration | None = None

    def score(self, model: Model, progress: Progress | None = None, *, sure: bool = True) -> StageScores:
        """Every figure of the plan. sure: with intervals. Raises DataError where nobody can be scored."""
        stage = self.stage
        figures = evaluate(
            model,
            stage.train,
            stage.truth,
            self.plan,
            self.ties,
            shown=stage.shown,
            folded=stage.shown if self.own is None else self.own.shown,
            content=self.content,
            progress=progress,
            sure=sure,
        )
        likelihood = self._likelihood(model) if self.chances else None
        if likelihood is not None:
            figures = figures.joined(likelihood.per_user(), self.plan, sure=sure)
        if not any_of_values(self.plan.metrics):
            return StageScores(stage, figures, likelihood=likelihood)
        held_out = stage.held_out_cells(values=True)
        if held_out is None or not isinstance(model, PredictsValues):
            return StageScores(stage, figures, held_out, likelihood=likelihood)
        return StageScores(stage, figures, held_out, predictions(cast(ValueModel, model), held_out), likelihood)

    def _likelihood(self, model: Model) -> LikelihoodScores | None:
        """None for a model without log-odds, for users held out whole, and where nothing was calibrated before."""
        able, stage = having_log_odds(model), self.stage
        if able is None or stage.shown is not None or (self.calibration is None and stage.part != "validation"):
            return None
        pairs = LikelihoodPairs.draw(stage.truth, stage.train, self.plan.seed)
        odds = able.log_odds(pairs.users, pairs.items, pairs.context)
        return LikelihoodScores.of(pairs, odds, self.calibration or calibrated(pairs, odds))

    def __call__(self, model: Model) -> dict[str, float]:
        """The means alone, by label, in the order of the plan: for the rounds of a fit and the attempts of a search."""
        means: dict[str, float] = {}
        if not all(any_of_values([name]) for name in self.plan.metrics):
            means = {label: each.mean for label, each in self.score(model, sure=False).figures.means.items()}
        if any_of_values(self.plan.metrics) and isinstance(model, PredictsValues):
            held_out = self.stage.held_out_cells(values=True)
            if held_out is not None:
                means |= predictions(cast(ValueModel, model), held_out).errors()
        return {label: means[label] for label in labels(self.plan.metrics, self.plan.at) if label in means}
