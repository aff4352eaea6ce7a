"""One contender of a contest: fitted and scored on every stage, and fitted once more for release where that is due."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from statistics import median
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.contests.comparison import AgainstBaseline, against_baseline
from gleaner.core.contests.contest import Contest, KnownContender
from gleaner.core.contests.figures import column, means, per_user_frame
from gleaner.core.contests.judging import StageScores
from gleaner.core.contests.listening import ProgressStretch, watched
from gleaner.core.contests.parts import SplitStage
from gleaner.core.contests.plan import Contender
from gleaner.core.contests.results import AmountFigure, ContenderResult, PartFigure, SearchResult
from gleaner.core.contests.tuning import tune
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features, without_columns
from gleaner.core.metrics.likelihood import LikelihoodFacts
from gleaner.core.models.base.capabilities import (
    PredictsValues,
    TakesFeatures,
    columns_of,
    history_of,
    require_folding,
)
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.watching import Watch, stops_early
from gleaner.core.models.composition.depth import without_layers
from gleaner.core.models.composition.members import without_member
from gleaner.core.ranking.topn import top_of
from gleaner.core.tuning.space import settled

FITTING = 0.8
"""Of a stage's stretch of the progress; the rest is scoring."""
TUNED = 0.8
"""Of a tuned contender's stretch."""
TIMED_LISTS = 30


@dataclass(eq=False)
class ContenderRun:
    """One contender while it runs, and what its fits have taken so far."""

    contest: Contest
    contender: Contender
    params: dict[str, Any]
    search: SearchResult | None = None
    amounts: list[AmountFigure] = field(default_factory=list)
    calibration: Calibration | None = None
    likelihood: LikelihoodFacts | None = None
    fit_seconds: float = 0.0
    fit_memory_mb: float = 0.0
    evaluate_seconds: float = 0.0
    final_seconds: float = 0.0

    @property
    def label(self) -> str:
        """What it is called."""
        return self.contender.label

    def fit(self, train: InteractionMatrix, watch: Watch) -> Model:
        """A fitted model; keeps the most memory that a fit of this contender took of its own."""
        model = build(self.contender.family, self.params)
        features = self.contest.tables.for_model(model, train)
        memory, watch.lent = self.contest.listener.memory(), self.contest.lent
        watch.judged_later = self.contest.parts.judged_later
        model.fit(train, features=features, watch=watch)
        self.fit_memory_mb = max(self.fit_memory_mb, memory())
        self.contest.lent.keep(model, train)
        if watch.borrowed:
            text = f"{self.label}: {', '.join(watch.borrowed)} were fitted before, and their time is not counted again"
            self.contest.listener.log(text)
        return model


def run_contender(contest: Contest, contender: Contender, stretch: ProgressStretch) -> ContenderResult:
    """Tune where asked, fit and score on every stage, and compare with the baseline, which is done first."""
    run, stretch = _begun(contest, contender, stretch)
    stages, clock = contest.parts.stages, contest.listener.clock
    shares = contest.plan.amounts if contest.parts.validation is not None else []
    refit = contest.parts.whole is not None
    width = 1 / (len(stages) + refit + sum(shares))
    scored: dict[str, list[StageScores]] = {}
    start = 0.0
    for place, stage in enumerate(stages):
        model, watch, figures = _on_stage(run, stage, place, stretch.part(start, start + width))
        scored.setdefault(stage.part, []).append(figures)
        start += width
        if place == contest.parts.validation and shares:
            run.amounts = _amounts(run, stage, place, figures, stretch.part(start, start + width * sum(shares)))
            start += width * sum(shares)
    if refit:
        begun = clock()
        watch = watched(stretch.part(start, 1.0), run.label, "everything")
        model = run.fit(contest.final_of(run.label), watch)
        run.final_seconds = clock() - begun
    return _result(run, scored, model, watch)


def _begun(contest: Contest, contender: Contender, stretch: ProgressStretch) -> tuple[ContenderRun, ProgressStretch]:
    """With its parameters: found, taken over from the contender that it ablates, or as given; and what is left of the
    stretch."""
    whole = contest.known.get(contender.ablates or "")
    run = ContenderRun(contest, contender, dict(whole.params if whole else contender.params))
    if contender.search is not None and contender.ablates is None:
        run.search = tune(contest, contender, stretch.part(0.0, TUNED))
        run.params = run.search.params
        stretch = stretch.part(TUNED, 1.0)
    if whole is not None and stops_early(build(whole.family, run.params)):
        # without the part it may take more iterations to find what there is to find
        run.params |= {
            "iterations": build(contender.family, settled(contender.family, contender.params)).params()["iterations"]
        }
    if contender.lacks_features:
        run.params = run.params | _without_features(run)
    if whole is not None and contender.lacks_layers:
        run.params = without_layers(contender.family, run.params)
    if whole is not None and contender.lacks_member is not None:
        run.params = without_member(contender.family, run.params, contender.lacks_member)
    if whole is not None and contender.family != whole.family:
        # the same members, put in order in another way
        run.params = {"members": build(whole.family, whole.params).params()["members"]}
    return run, stretch


def _without_features(run: ContenderRun) -> dict[str, list[str]]:
    """The columns that are left, all named: what the model's card then says."""
    whole = build(run.contender.family, run.params)
    features = run.contest.tables.for_model(whole, run.contest.final_of(run.label))
    columns = whole.columns(features or Features()) if isinstance(whole, TakesFeatures) else {}
    return without_columns(columns, run.contender.lacks or "")


def _on_stage(
    run: ContenderRun, stage: SplitStage, place: int, stretch: ProgressStretch
) -> tuple[Model, Watch, StageScores]:
    """Fit for a stage and score on it."""
    contest, plan, clock = run.contest, run.contest.plan, run.contest.listener.clock
    fitting, scoring = stretch.part(0.0, FITTING), stretch.part(FITTING, 1.0)
    begun = clock()
    model = build(run.contender.family, run.params)
    finds_end = place == contest.parts.validation and stops_early(model)
    curve = plan.every or (1 if finds_end else None) if place == contest.parts.validation else None
    watch = watched(
        fitting,
        run.label,
        stage.goal,
        held_out=stage.held_out_cells(values=isinstance(model, PredictsValues)) if stage.part == "validation" else None,
        judge=None if curve is None else contest.judge(place, run.label, plan.by_epoch if finds_end else plan.deciding),
        decide_by=plan.decide_by,
        every=curve or 1,
    )
    model = run.fit(stage.own_of(run.label).train, watch)
    run.final_seconds = clock() - begun
    run.fit_seconds += run.final_seconds
    if finds_end and watch.best is not None:
        # fits without a judge take as many iterations as this one found best
        run.params = run.params | {"iterations": watch.best}
    begun = clock()
    message = f"{run.label}: scoring on {stage.goal}"
    calibration = None if stage.part == "validation" else run.calibration
    judge = replace(contest.judge(place, run.label, plan.whole), chances=True, calibration=calibration)
    scored = judge.score(model, lambda done: scoring.report_progress(done, message))
    if scored.likelihood is not None:
        run.calibration = scored.likelihood.calibration
        run.likelihood = LikelihoodFacts.of(scored.likelihood) if stage.part == "test" else None
    _tell_fallbacks(run, scored)
    run.evaluate_seconds += clock() - begun
    return model, watch, scored


def _tell_fallbacks(run: ContenderRun, scored: StageScores) -> None:
    if scored.predictions is None:
        return
    answered, predicted = int(scored.predictions.answerable.sum()), len(scored.predictions.users)
    if answered < predicted:
        text = f"{run.label}: fell back on means for {predicted - answered:,} of {predicted:,} held-out values"
        run.contest.listener.log(text)


def _amounts(
    run: ContenderRun, stage: SplitStage, place: int, whole: StageScores, stretch: ProgressStretch
) -> list[AmountFigure]:
    """Fits on growing shares of the training cells, scored on validation; which cells is drawn once, so that each
    share holds the one before. What a user has already stays left out, whatever the fit saw of it. The last is the fit
    on all of it, which is there already."""
    contest, plan, clock = run.contest, run.contest.plan, run.contest.listener.clock
    train, shares, metric = stage.own_of(run.label).train, plan.amounts, plan.decide_by.label
    drawn = np.random.default_rng(plan.seed).random(train.n_cells)
    judge = contest.judge(place, run.label, plan.deciding)
    points = [(1.0, train.n_cells, run.final_seconds, whole.interval(metric))]
    for step, share in enumerate(shares):
        some = train.only(drawn < share)
        low, high = (sum(shares[:end]) / sum(shares) for end in (step, step + 1))
        part = stretch.part(low, high)
        message = f"{run.label}: fitting on {share:.0%} of training"
        begun = clock()
        watch = Watch(progress=lambda done, _, to=part, text=message: to.report_progress(done, text))  # type: ignore[misc]
        model = run.fit(some, watch)
        seconds = clock() - begun
        points.append((share, some.n_cells, seconds, judge.score(model).interval(metric)))
    points.sort(key=lambda each: each[0])
    return [AmountFigure(share, cells, took, figure) for share, cells, took, figure in points if figure is not None]


def _result(run: ContenderRun, scored: dict[str, list[StageScores]], model: Model, watch: Watch) -> ContenderResult:
    """Figures of every part, beside the baseline on the last; and what is remembered of it."""
    contest, plan = run.contest, run.contest.plan
    frames = [per_user_frame(part, stages) for part, stages in scored.items()]
    figures: list[PartFigure] = []
    for frame, stages in zip(frames, scored.values(), strict=True):
        figures += means(frame, stages, plan.labels, plan.seed)
    metric, test = plan.decide_by.label, frames[-1]
    mine = column(test, metric) if metric in test.columns else None
    result = ContenderResult(
        contender=run.contender,
        model=model,
        train=contest.final_of(run.label),
        watch=watch,
        figures=figures,
        per_user=pl.concat(frames),
        against=_against(contest, run.label, mine),
        fit_seconds=run.fit_seconds,
        fit_memory_mb=run.fit_memory_mb,
        evaluate_seconds=run.evaluate_seconds,
        final_seconds=run.final_seconds,
        list_ms=_list_ms(contest, model, run.label),
        search=run.search,
        amounts=run.amounts,
        columns=columns_of(model, contest.tables.for_model(model, contest.final_of(run.label))),
        likelihood=run.likelihood,
    )
    deciding = result.figure(metric, contest.deciding_part)
    known = KnownContender(run.contender.family, run.params, deciding.mean if deciding else None, mine)
    contest.known[run.label] = known
    return result


def _against(contest: Contest, label: str, mine: np.ndarray | None) -> AgainstBaseline:
    plan = contest.plan
    if label == plan.baseline:
        return AgainstBaseline(0.0, 0.0, 0.0, "baseline")
    return against_baseline(mine, contest.known[plan.baseline].by_user, plan.sign, plan.seed)


def _list_ms(contest: Contest, model: Model, label: str) -> float:
    """The median time of one user's list, on one core: scores of every item, what the user has left out, the best."""
    clock, n = contest.listener.clock, max(contest.plan.at)
    stage, ties = contest.parts.stages[-1], contest.ties[-1]
    own = stage.own_of(label)
    folds = require_folding(model) if own.shown is not None and model.personal else None
    taken = []
    for row in stage.truth.user_rows[:TIMED_LISTS]:
        begun = clock()
        if own.shown is None or folds is None:
            scores = model.scores(np.array([row if own.shown is None else 0], dtype=np.int32))[0]
        else:
            scores = folds.scores_of(folds.fold_in(*history_of(folds, own.shown, int(row))))
        top_of(scores, n, ties, stage.known.history(int(row))[0])
        taken.append(clock() - begun)
    return 1000 * median(taken)
