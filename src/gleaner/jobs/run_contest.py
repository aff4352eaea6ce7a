"""Run a contest: prepare, split, fit and score every contender, register the models."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from math import inf
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl

from gleaner import __version__
from gleaner.core.data.content import content_of
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.truth import Relevance
from gleaner.core.errors import DataError
from gleaner.core.evaluation import Figures, RankPlan, evaluate
from gleaner.core.metrics.catalogue import better_sign
from gleaner.core.metrics.exposure import ItemContent
from gleaner.core.metrics.values import predictions
from gleaner.core.models.protocol import Model
from gleaner.core.models.registry import build
from gleaner.core.models.values import ValueModel
from gleaner.core.ranking.ties import tie_order
from gleaner.jobs.contest_figures import Scored, against_popular, column, compared, means, per_user_frame, read_metric
from gleaner.jobs.context import JobContext
from gleaner.jobs.divide import Stage, divide, read_rows
from gleaner.jobs.following import follow, told
from gleaner.jobs.memory import PeakMemory
from gleaner.jobs.model_files import keep_matrix
from gleaner.store import contests, datasets, jobs, models
from gleaner.store.artefacts import Artefact
from gleaner.store.contests import RunPlan
from gleaner.wire.contests import VALUE_METRICS, ContenderSpec
from gleaner.wire.runs import Against, ContestComparison, Figure, Standing, StepReport

PREPARED = 0.05


@dataclass(eq=False)
class Contest:
    """A contest while it runs."""

    context: JobContext
    plan: RunPlan
    stages: list[Stage]
    ties: list[np.ndarray]
    final: InteractionMatrix
    refit: bool
    trained_on: str
    matrix: Artefact
    contents: list[ItemContent]
    files: dict[str, Path] = field(default_factory=dict)
    deciding: dict[str, float] = field(default_factory=dict)

    @property
    def baseline(self) -> str:
        """The label of the contender that all others are told against."""
        return self.plan.spec.baseline


def run(context: JobContext) -> dict[str, Any]:
    """Run it. Contenders that an earlier attempt finished are not run again."""
    with context.engine.begin() as connection:
        plan = contests.plan_of_job(connection, context.claim.id)
        files = datasets.files_by_id(connection, plan.version_id)
        done = contests.finished_contenders(connection, plan.id)
    context.require_going(0.01, "reading interactions")
    rows = read_rows(context.artefacts.local_path(files.interactions_file), files.scale)
    contest = _prepare(context, plan, rows, files)
    del rows
    # the baseline first: every other contender is told against it
    ordered = sorted(plan.spec.contenders, key=lambda contender: contender.label != contest.baseline)
    edges = _edges(ordered, contest.final.shape, contest.final.n_cells)
    for contender, start, stop in zip(ordered, edges, edges[1:], strict=False):
        if contender.label in done:
            context.log(f"{contender.label}: finished in an earlier attempt")
            _recall(contest, contender, done[contender.label])
            continue
        _run_contender(contest, contender, start, stop)
    sign = better_sign(plan.spec.rank.decide_by)
    winner = max(contest.deciding, key=lambda label: sign * contest.deciding[label])
    comparison = _compare(contest)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        contests.set_winner(connection, plan.id, winner, comparison)
        text = f"{plan.name}: best on {plan.spec.rank.decide_by} is {winner}"
        result = {"run": plan.name, "winner": winner}
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def _edges(contenders: list[ContenderSpec], shape: tuple[int, int], cells: int) -> list[float]:
    """Where each contender's stretch of the progress bar begins and ends."""
    models = [build(contender.family, contender.params) for contender in contenders]
    efforts = [1e6 + model.cost(model.params(), shape, cells).operations for model in models]
    return [float(edge) for edge in PREPARED + (1 - PREPARED) * np.cumsum([0.0, *efforts]) / sum(efforts)]


def _prepare(context: JobContext, plan: RunPlan, rows: InteractionRows, files: datasets.VersionFiles) -> Contest:
    """Preparation and split, with their reports kept at once."""
    spec = plan.spec

    def tell(done: float, message: str) -> None:
        context.require_going(0.01 + (PREPARED - 0.01) * done, message)

    relevance = Relevance(**spec.rank.relevant.model_dump())
    made = divide(rows, spec.prepare, spec.split, spec.seed, tell, relevance)
    steps = made.step_reports()
    for why, n in made.left_out.items():
        steps.insert(0, StepReport(name="split", rows_in=len(rows), rows_out=len(rows) - n, note=f"{n:,} rows {why}"))
    with context.engine.begin() as connection:
        contests.set_reports(connection, plan.id, steps, made.reports)
    stages = made.stages
    final = (made.whole or stages[-1].prepared).matrix
    if made.whole is not None:
        trained_on = "everything; scored on folds"
    else:
        trained_on = "training and validation" if any(stage.part == "validation" for stage in stages) else "training"
    ties = [tie_order(stage.train.items, spec.seed) for stage in stages]
    matrix = keep_matrix(context.artefacts, final, context.staging)
    contents = _contents(context, plan, stages, files)
    return Contest(context, plan, stages, ties, final, made.whole is not None, trained_on, matrix, contents)


def _contents(
    context: JobContext, plan: RunPlan, stages: list[Stage], files: datasets.VersionFiles
) -> list[ItemContent]:
    """What diversity and calibration look at, for the items of every stage."""
    rank = plan.spec.rank
    if not rank.content and rank.categories is None:
        return [ItemContent() for _ in stages]
    if files.items_file is None:
        raise DataError(f"{files.name} has no item table, and rank.content or rank.categories names columns of one")
    table = pl.read_parquet(context.artefacts.local_path(files.items_file))
    with context.engine.begin() as connection:
        columns = datasets.version(connection, files.name).item_columns
    types = {column.name: column.type for column in columns}
    return [content_of(table, stage.train.items, rank.content, rank.categories, types) for stage in stages]


def _run_contender(contest: Contest, contender: ContenderSpec, start: float, stop: float) -> None:
    """Fit and score on every stage, then keep standing, figures and model in one transaction."""
    context, plan = contest.context, contest.plan
    rank = RankPlan(plan.spec.rank.metrics, plan.spec.rank.at, plan.spec.seed)
    memory = PeakMemory()
    seconds = {"fit": 0.0, "evaluate": 0.0}
    found: dict[str, list[Scored]] = {}
    width = (stop - start) / (len(contest.stages) + contest.refit)
    for place, (stage, ties, content) in enumerate(zip(contest.stages, contest.ties, contest.contents, strict=True)):
        low = start + place * width
        begun = time.perf_counter()
        fitting = context.part(low, low + 0.8 * width, "")
        model = build(contender.family, contender.params)
        held = stage.held_cells(values=model.predicts_values) if stage.part == "validation" else None
        watch = follow(fitting, contender.label, _goal(stage), held=held)
        model.fit(stage.train, watch=watch)
        final_seconds = time.perf_counter() - begun
        seconds["fit"] += final_seconds
        begun = time.perf_counter()
        message = f"{contender.label}: scoring on {_goal(stage)}"
        progress = context.part(low + 0.8 * width, low + width, message)
        scored = evaluate(
            model, stage.train, stage.truth, rank, ties, shown=stage.shown, content=content, progress=progress
        )
        found.setdefault(stage.part, []).append(_with_values(contest, contender.label, model, stage, scored))
        seconds["evaluate"] += time.perf_counter() - begun
    if contest.refit:
        fitting = context.part(stop - width, stop, "")
        begun = time.perf_counter()
        watch = follow(fitting, contender.label, "everything")
        model = build(contender.family, contender.params).fit(contest.final, watch=watch)
        final_seconds = time.perf_counter() - begun
    frames = [per_user_frame(part, parts) for part, parts in found.items()]
    figures: list[Figure] = []
    for frame, parts in zip(frames, found.values(), strict=True):
        figures += means(frame, parts, plan.spec.rank.names(), plan.spec.seed)
    standing = Standing(
        contender=contender.label,
        family=contender.family,
        params=model.params(),
        figures=figures,
        against_popular=_against(contest, contender.label, frames[-1]),
        fit_seconds=seconds["fit"],
        evaluate_seconds=seconds["evaluate"],
        peak_memory_mb=memory.megabytes(),
    )
    _note_deciding(contest, contender.label, figures)
    story = models.Story(scale=contest.final.scale, final_seconds=final_seconds, **told(watch))
    _keep(contest, standing, model, pl.concat(frames), story)


def _with_values(contest: Contest, label: str, model: Model, stage: Stage, figures: Figures) -> Scored:
    """The ranking figures, and predicted values beside the held-out ones where the contest asks for them."""
    if not set(VALUE_METRICS) & set(contest.plan.spec.rank.metrics):
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


def _keep(contest: Contest, standing: Standing, model: Model, per_user: pl.DataFrame, story: models.Story) -> None:
    context, plan = contest.context, contest.plan
    path = context.staging / f"{standing.contender}.parquet"
    per_user.write_parquet(path, compression="zstd")
    users_file = context.artefacts.put(path, "parquet")
    contest.files[standing.contender] = context.artefacts.local_path(users_file.sha256)
    state = context.artefacts.put_arrays(model.state(), context.staging)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        standing_id = contests.add_standing(connection, plan.id, standing, users_file)
        new = models.NewModel(
            name=f"{plan.spec.contest}.{standing.contender}",
            standing_id=standing_id,
            version_id=plan.version_id,
            family=standing.family,
            params=standing.params,
            trained_on=contest.trained_on,
            code_version=__version__,
            shape=contest.final.shape,
            cells=contest.final.n_cells,
            state=state,
            matrix=contest.matrix,
            story=story,
        )
        name = models.add(connection, new)
        figure = standing.figure(plan.spec.rank.decide_by)
        if figure is not None:
            jobs.log(connection, context.claim.id, f"{name}: {figure.metric} {figure.mean:.4f} on the test part")


def _goal(stage: Stage) -> str:
    return stage.part if stage.fold is None else f"fold {stage.fold} ({stage.part})"


def _against(contest: Contest, label: str, test: pl.DataFrame) -> Against:
    if label == contest.baseline:
        return Against(difference=0, low=0, high=0, verdict="baseline")
    decide_by = contest.plan.spec.rank.decide_by
    mine = column(test, decide_by) if decide_by in test.columns else None
    return against_popular(mine, _popular(contest), better_sign(decide_by), contest.plan.spec.seed)


def _note_deciding(contest: Contest, label: str, figures: list[Figure]) -> None:
    """Remember the figure that decides: on validation where there is one, so that the test part chooses nothing."""
    part = contest.stages[0].part
    decide_by = contest.plan.spec.rank.decide_by
    found = next((f.mean for f in figures if f.part == part and f.metric == decide_by), None)
    # a contender without the figure, such as the spread of lists of one item, cannot win
    contest.deciding[label] = -better_sign(decide_by) * inf if found is None else found


def _recall(contest: Contest, contender: ContenderSpec, digest: str) -> None:
    """Take the figures of a contender that is finished from its file, and what has none per user from the record."""
    contest.files[contender.label] = contest.context.artefacts.local_path(digest)
    with contest.context.engine.begin() as connection:
        held = contests.results(connection, contest.plan.id, contest.plan.spec.rank.names())
    standing = next(each for each in held if each.contender == contender.label)
    _note_deciding(contest, contender.label, standing.figures)


def _popular(contest: Contest) -> np.ndarray | None:
    """The baseline's deciding figures per user, on the test part."""
    label = contest.baseline
    found = read_metric({label: contest.files[label]}, contest.plan.spec.rank.decide_by)
    return found.get(label)


def _compare(contest: Contest) -> ContestComparison | None:
    """Every pair on the deciding metric, once all contenders are done."""
    decide_by = contest.plan.spec.rank.decide_by
    return compared(read_metric(contest.files, decide_by), decide_by, contest.plan.spec.seed, contest.baseline)
