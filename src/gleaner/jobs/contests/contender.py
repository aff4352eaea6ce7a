"""One contender of a contest: fitted and scored on every stage, kept in one transaction."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from statistics import median

import numpy as np
import polars as pl

from gleaner import __version__
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.side import Features, without_columns
from gleaner.core.evaluation import Figures, evaluate
from gleaner.core.metrics.statistics import Interval
from gleaner.core.metrics.values import predictions
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.values import ValueModel
from gleaner.core.models.base.watching import Judge, Watch
from gleaner.core.ranking.topn import top_of
from gleaner.jobs.contests.figures import Scored, against_popular, column, means, per_user_frame, read_metric
from gleaner.jobs.contests.state import Contest
from gleaner.jobs.contests.tune import deciding_judge, tune
from gleaner.jobs.datasets.divide import SplitStage
from gleaner.jobs.models.following import follow, told
from gleaner.jobs.worker.context import ProgressPart
from gleaner.jobs.worker.memory import PeakMemory
from gleaner.store import contests, jobs, models
from gleaner.store.artefacts import Artefact
from gleaner.wire.contests.contest import FEATURES, ContenderSpec
from gleaner.wire.contests.rank import VALUE_METRICS
from gleaner.wire.contests.runs import Against, Figure, Standing
from gleaner.wire.contests.tuning import AmountPoint, TuningResult
from gleaner.wire.models import WatchSpec

FITTING = 0.8
"""Of a stage's stretch of the progress bar; the rest is scoring."""
TUNED = 0.8
"""Of a tuned contender's stretch."""
TIMED_LISTS = 30


@dataclass(eq=False)
class ContenderRun:
    """One contender while it runs."""

    contest: Contest
    contender: ContenderSpec
    params: dict[str, object] = field(default_factory=dict)
    tuning: TuningResult | None = None
    amounts: list[AmountPoint] = field(default_factory=list)
    fit_seconds: float = 0.0
    fit_memory_mb: float = 0.0
    evaluate_seconds: float = 0.0
    final_seconds: float = 0.0

    @property
    def label(self) -> str:
        """What it is called."""
        return self.contender.label


def run_contender(contest: Contest, contender: ContenderSpec, start: float, stop: float) -> None:
    """Tune where asked, fit and score on every stage, then keep standing, figures and model in one transaction."""
    work = ContenderRun(contest, contender, dict(contest.params.get(contender.ablates or "", contender.params)))
    if contender.tuned and contender.ablates is None:
        middle = start + TUNED * (stop - start)
        work.params, work.tuning = tune(contest, contender, contest.context.part(start, middle, ""))
        start = middle
    if (contender.lacks or "").partition(".")[0] == FEATURES:
        work.params |= _without_features(contest, contender, work.params)
    contest.params[contender.label] = work.params
    found: dict[str, list[Scored]] = {}
    shares = contest.spec.curves.amounts if contest.validation is not None else []
    width = (stop - start) / (len(contest.stages) + contest.refit + sum(shares))
    model, watch = None, None
    for place, stage in enumerate(contest.stages):
        part = contest.context.part(start, start + width, "")
        model, watch, scored = _on_stage(work, stage, place, part)
        found.setdefault(stage.part, []).append(scored)
        start += width
        if place == contest.validation:
            work.amounts = _amounts(
                work, stage, place, scored, contest.context.part(start, start + width * sum(shares), "")
            )
            start += width * sum(shares)
    if contest.refit:
        begun = time.perf_counter()
        watch = follow(contest.context.part(start, stop, ""), work.label, "everything")
        model = _fitted(work, contest.final_of(work.label), watch)
        work.final_seconds = time.perf_counter() - begun
    assert model is not None
    assert watch is not None
    frames = [per_user_frame(part, parts) for part, parts in found.items()]
    figures: list[Figure] = []
    for frame, parts in zip(frames, found.values(), strict=True):
        figures += means(frame, parts, contest.spec.rank.names(), contest.spec.seed)
    standing = Standing(
        contender=work.label,
        family=contender.family,
        params=model.params(),
        figures=figures,
        against_popular=_against(contest, work.label, frames[-1]),
        fit_seconds=work.fit_seconds,
        evaluate_seconds=work.evaluate_seconds,
        peak_memory_mb=work.fit_memory_mb,
        list_ms=_list_ms(contest, model, work.label),
        prepare=contender.prepare,
        tuning=work.tuning,
    )
    contest.note_deciding(work.label, figures)
    scale = contest.final_of(work.label).scale
    _keep(
        work,
        standing,
        model,
        pl.concat(frames),
        models.Story(scale=scale, final_seconds=work.final_seconds, **told(watch)),
    )


def _without_features(contest: Contest, contender: ContenderSpec, params: dict[str, object]) -> dict[str, list[str]]:
    """The columns that are left, all named: what the model's card then says."""
    whole = build(contender.family, params)
    features = contest.tables.for_model(whole, contest.final_of(contender.label))
    return without_columns(whole.columns(features or Features()), contender.lacks or "")


def _fitted(work: ContenderRun, train: InteractionMatrix, watch: Watch) -> Model:
    model = build(work.contender.family, work.params)
    return _fit(work, model, train, watch)


def _fit(work: ContenderRun, model: Model, train: InteractionMatrix, watch: Watch) -> Model:
    """Fit, and keep the most memory that a fit of this contender took of its own."""
    features = work.contest.tables.for_model(model, train)
    memory = PeakMemory()
    model.fit(train, features=features, watch=watch)
    work.fit_memory_mb = max(work.fit_memory_mb, memory.megabytes())
    return model


def _on_stage(work: ContenderRun, stage: SplitStage, place: int, part: ProgressPart) -> tuple[Model, Watch, Scored]:
    """Fit for a stage and score on it."""
    contest, label = work.contest, work.label
    context, middle = part.context, part.start + FITTING * (part.stop - part.start)
    begun = time.perf_counter()
    own = stage.own_of(label)
    model = build(work.contender.family, work.params)
    held = stage.held_cells(values=model.predicts_values) if stage.part == "validation" else None
    judge, how = _curve(work, stage, place)
    watch = follow(context.part(part.start, middle, ""), label, goal_of(stage), judge, how, held=held)
    _fit(work, model, own.train, watch)
    work.final_seconds = time.perf_counter() - begun
    work.fit_seconds += work.final_seconds
    begun = time.perf_counter()
    progress = context.part(middle, part.stop, f"{label}: scoring on {goal_of(stage)}")
    figures = evaluate(
        model,
        stage.train,
        stage.truth,
        contest.rank_plan(),
        contest.ties[place],
        shown=stage.shown,
        folded=own.shown,
        content=contest.contents[place],
        progress=progress,
    )
    scored = _with_values(contest, label, model, stage, figures)
    work.evaluate_seconds += time.perf_counter() - begun
    return model, watch, scored


def _curve(work: ContenderRun, stage: SplitStage, place: int) -> tuple[Judge | None, WatchSpec | None]:
    """What scores the iterations of the fit on training, where the contest asks for that curve."""
    every = work.contest.spec.curves.every
    if every is None or place != work.contest.validation:
        return None, None
    judge = deciding_judge(work.contest, work.label, stage, place)
    return judge, WatchSpec(metric=work.contest.spec.rank.decide_by, every=every, patience=0)


def _amounts(work: ContenderRun, stage: SplitStage, place: int, whole: Scored, part: ProgressPart) -> list[AmountPoint]:
    """Fits on growing shares of the training cells, scored on validation; which cells is drawn once, so that each
    share holds the one before. What a user has already stays left out, whatever the fit saw of it. The last is the fit
    on all of it, which is there already."""
    contest = work.contest
    shares = contest.spec.curves.amounts
    own = stage.own_of(work.label)
    drawn = np.random.default_rng(contest.spec.seed).random(own.train.n_cells)
    found = [(1.0, own.train.n_cells, work.final_seconds, whole)] if shares else []
    for step, share in enumerate(shares):
        some = own.train.only(drawn < share)
        low = part.start + (part.stop - part.start) * sum(shares[:step]) / sum(shares)
        high = low + (part.stop - part.start) * share / sum(shares)
        tell = part.context.part(low, high, f"{work.label}: fitting on {share:.0%} of training")
        begun = time.perf_counter()
        model = _fitted(work, some, Watch(progress=lambda done, _, tell=tell: tell(done)))  # type: ignore[misc]
        seconds = time.perf_counter() - begun
        figures = evaluate(
            model, stage.train, stage.truth, contest.deciding_plan(), contest.ties[place],
            shown=stage.shown, folded=own.shown, content=contest.contents[place],
        )  # fmt: skip
        found.append((share, some.n_cells, seconds, _with_values(contest, work.label, model, stage, figures)))
    figured = [
        (share, cells, took, _deciding(contest, scored)) for share, cells, took, scored in sorted(found, key=_share)
    ]
    return [
        AmountPoint(share=share, cells=cells, seconds=took, **vars(figure))
        for share, cells, took, figure in figured
        if figure is not None
    ]


def _share(point: tuple[float, int, float, Scored]) -> float:
    return point[0]


def _deciding(contest: Contest, scored: Scored) -> Interval | None:
    """The deciding metric of a stage; None where the contender has none."""
    name = contest.spec.rank.decide_by
    if name in VALUE_METRICS and scored.predictions is not None:
        return Interval(scored.predictions.errors()[name], None, None)
    return scored.figures.means.get(name)


def _with_values(contest: Contest, label: str, model: Model, stage: SplitStage, figures: Figures) -> Scored:
    """The ranking figures, and predicted values beside the held-out ones where the contest asks for them."""
    if not set(VALUE_METRICS) & set(contest.spec.rank.metrics):
        return Scored(stage, figures)
    held = stage.held_cells(values=True)
    if held is None or not isinstance(model, ValueModel):
        return Scored(stage, figures, held)
    found = predictions(model, held)
    answered = int(found.answerable.sum())
    if answered < len(found.users):
        fell_back = len(found.users) - answered
        contest.context.log(f"{label}: fell back on means for {fell_back:,} of {len(found.users):,} held-out values")
    return Scored(stage, figures, held, found)


def _list_ms(contest: Contest, model: Model, label: str) -> float:
    """The median time of one user's list, on one core: scores of every item, what the user has left out, the best."""
    stage, ties, n = contest.stages[-1], contest.ties[-1], max(contest.spec.rank.at)
    own = stage.own_of(label)
    taken = []
    for row in stage.truth.user_rows[:TIMED_LISTS]:
        begun = time.perf_counter()
        if own.shown is None or not model.personal:
            scores = model.scores(np.array([row if own.shown is None else 0], dtype=np.int32))[0]
        else:
            scores = model.scores_of(model.fold_in(*own.shown.history(int(row))))
        top_of(scores, n, ties, (stage.shown or stage.train).history(int(row))[0])
        taken.append(time.perf_counter() - begun)
    return 1000 * median(taken)


def _keep(work: ContenderRun, standing: Standing, model: Model, per_user: pl.DataFrame, story: models.Story) -> None:
    contest, context, plan = work.contest, work.contest.context, work.contest.plan
    path = context.staging / f"{standing.contender}.parquet"
    per_user.write_parquet(path, compression="zstd")
    users_file: Artefact = context.artefacts.put(path, "parquet")
    contest.files[standing.contender] = context.artefacts.local_path(users_file.sha256)
    state = context.artefacts.put_arrays(model.state(), context.staging)
    matrix, final = contest.matrix_of(work.label), contest.final_of(work.label)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        standing_id = contests.add_standing(connection, plan.id, standing, work.amounts, users_file)
        new = models.NewModel(
            name=f"{plan.spec.contest}.{standing.contender}",
            standing_id=standing_id,
            version_id=plan.version_id,
            family=standing.family,
            params=standing.params,
            trained_on=contest.trained_on,
            code_version=__version__,
            shape=final.shape,
            cells=final.n_cells,
            state=state,
            matrix=matrix,
            story=story,
        )
        name = models.add(connection, new)
        figure = standing.figure(plan.spec.rank.decide_by)
        if figure is not None:
            jobs.log(connection, context.claim.id, f"{name}: {figure.metric} {figure.mean:.4f} on the test part")


def goal_of(stage: SplitStage) -> str:
    """What a fit is for."""
    return stage.part if stage.fold is None else f"fold {stage.fold} ({stage.part})"


def _against(contest: Contest, label: str, test: pl.DataFrame) -> Against:
    if label == contest.baseline:
        return Against(difference=0, low=0, high=0, verdict="baseline")
    decide_by = contest.spec.rank.decide_by
    mine = column(test, decide_by) if decide_by in test.columns else None
    popular = read_metric({contest.baseline: contest.files[contest.baseline]}, decide_by).get(contest.baseline)
    return against_popular(mine, popular, contest.sign, contest.spec.seed)
