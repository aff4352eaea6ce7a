"""Run a contest: prepare, split, fit and score every contender, register the models."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import polars as pl
import pyarrow.parquet as pq

from gleaner import __version__
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.prepare import Preparation, Step, build_matrix, keep_rows
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.split import Parts, TimeSplit, Truth, split_by_time, truth_of
from gleaner.core.evaluation import Figures, RankPlan, evaluate
from gleaner.core.metrics.statistics import paired_difference
from gleaner.core.models.protocol import Model
from gleaner.core.models.registry import build
from gleaner.core.ranking.ties import tie_order
from gleaner.jobs.context import JobContext, Part
from gleaner.jobs.memory import PeakMemory
from gleaner.jobs.model_files import keep_matrix
from gleaner.store import contests, datasets, jobs, models
from gleaner.store.artefacts import Artefact
from gleaner.store.contests import RunPlan
from gleaner.wire.contests import Against, ContenderSpec, Figure, PartReport, Standing, StepReport

PREPARED = 0.05


@dataclass(frozen=True, eq=False)
class Stage:
    """One part to be scored: the matrix to fit on, the truth to compare with, the order of ties."""

    part: str
    train: InteractionMatrix
    truth: Truth
    ties: np.ndarray


@dataclass(eq=False)
class Contest:
    """A contest while it runs."""

    context: JobContext
    plan: RunPlan
    stages: list[Stage]
    trained_on: str
    matrix: Artefact
    popular: np.ndarray | None = None
    deciding: dict[str, float] = field(default_factory=dict)


def run(context: JobContext) -> dict[str, Any]:
    """Run it. Contenders that an earlier attempt finished are not run again."""
    with context.engine.begin() as connection:
        plan = contests.plan_of_job(connection, context.claim.id)
        files = datasets.files_by_id(connection, plan.version_id)
        done = contests.finished_contenders(connection, plan.id)
    context.require_going(0.01, "reading interactions")
    table = pq.read_table(
        context.artefacts.local_path(files.interactions_file), read_dictionary=["user", "item", "kind"]
    )
    rows = InteractionRows.from_arrow(table)
    del table
    contest = _prepare(context, plan, rows)
    del rows
    ordered = sorted(plan.spec.contenders, key=lambda contender: contender.family != "popular")
    edges = _edges(ordered)
    for contender, start, stop in zip(ordered, edges, edges[1:], strict=False):
        if contender.label in done:
            context.log(f"{contender.label}: finished in an earlier attempt")
            _recall(contest, contender, done[contender.label])
            continue
        _run_contender(contest, contender, start, stop)
    winner = max(contest.deciding, key=lambda label: contest.deciding[label])
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        contests.set_winner(connection, plan.id, winner)
        text = f"{plan.name}: best on {plan.spec.rank.decide_by} is {winner}"
        result = {"run": plan.name, "winner": winner}
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def _edges(contenders: list[ContenderSpec]) -> list[float]:
    """Where each contender's stretch of the progress bar begins and ends."""
    efforts = [build(contender.family, contender.params).effort() for contender in contenders]
    return [float(edge) for edge in PREPARED + (1 - PREPARED) * np.cumsum([0.0, *efforts]) / sum(efforts)]


def _prepare(context: JobContext, plan: RunPlan, rows: InteractionRows) -> Contest:
    """Preparation and split, with their reports kept at once."""
    spec = plan.spec
    how = Preparation(**spec.prepare.model_dump())
    context.require_going(0.03, "preparing and splitting")
    kept, steps = keep_rows(rows, how)
    parts = split_by_time(kept, TimeSplit(spec.split.test, spec.split.validation))
    if parts.undated:
        steps.append(Step("time", len(kept), len(kept) - parts.undated, f"{parts.undated} rows without a time dropped"))
    final, final_steps = build_matrix(parts.train_and_validation(), how)
    stages = []
    if len(parts.validation):
        train, _ = build_matrix(parts.train, how)
        stages.append(_stage("validation", train, truth_of(parts.validation, train), spec.seed))
    stages.append(_stage("test", final, truth_of(parts.test, final), spec.seed))
    reports = [StepReport(**vars(step)) for step in steps + final_steps]
    with context.engine.begin() as connection:
        contests.set_reports(connection, plan.id, reports, _part_reports(parts, stages))
    trained_on = "training and validation" if len(parts.validation) else "training"
    return Contest(context, plan, stages, trained_on, keep_matrix(context.artefacts, final, context.staging))


def _stage(part: str, train: InteractionMatrix, truth: Truth, seed: int) -> Stage:
    return Stage(part, train, truth, tie_order(train.items, seed))


def _part_reports(parts: Parts, stages: list[Stage]) -> list[PartReport]:
    truths = {stage.part: stage.truth for stage in stages}
    moments = {"training": None, "validation": parts.validation_from, "test": parts.test_from}
    held = {"training": parts.train, "validation": parts.validation, "test": parts.test}
    reports = []
    for name, rows in held.items():
        report = PartReport(
            part=name,
            rows=len(rows),
            users=rows.frame["user"].n_unique(),
            items=rows.frame["item"].n_unique(),
            starts=moments[name],
        )
        if name in truths:
            truth = truths[name]
            report.users_counted = len(truth.user_rows)
            report.pairs_counted = len(truth.indices)
            report.unseen_users, report.unseen_items = truth.unseen_users, truth.unseen_items
            report.known_pairs = truth.known_pairs
        reports.append(report)
    return reports


def _run_contender(contest: Contest, contender: ContenderSpec, start: float, stop: float) -> None:
    """Fit and score on every stage, then keep standing, figures and model in one transaction."""
    context, plan = contest.context, contest.plan
    rank = RankPlan(plan.spec.rank.metrics, plan.spec.rank.at, plan.spec.seed)
    memory = PeakMemory()
    figures: list[Figure] = []
    per_user: list[pl.DataFrame] = []
    seconds = {"fit": 0.0, "evaluate": 0.0}
    width = (stop - start) / len(contest.stages)
    for place, stage in enumerate(contest.stages):
        low = start + place * width
        begun = time.perf_counter()
        fitting = context.part(low, low + 0.8 * width, "")
        model = build(contender.family, contender.params).fit(
            stage.train, watch=_Watch(fitting, contender.label, stage.part)
        )
        seconds["fit"] += time.perf_counter() - begun
        begun = time.perf_counter()
        message = f"{contender.label}: scoring on {stage.part}"
        progress = context.part(low + 0.8 * width, low + width, message)
        found = evaluate(model, stage.train, stage.truth, rank, stage.ties, progress=progress)
        seconds["evaluate"] += time.perf_counter() - begun
        figures += [Figure(metric=name, part=stage.part, **vars(value)) for name, value in found.means.items()]
        per_user.append(_per_user_frame(stage, found))
    standing = Standing(
        contender=contender.label,
        family=contender.family,
        params=model.params(),
        figures=figures,
        against_popular=_against(contest, contender, found),
        fit_seconds=seconds["fit"],
        evaluate_seconds=seconds["evaluate"],
        peak_memory_mb=memory.megabytes(),
    )
    _note_deciding(contest, contender.label, figures)
    _keep(contest, standing, model, pl.concat(per_user))


def _keep(contest: Contest, standing: Standing, model: Model, per_user: pl.DataFrame) -> None:
    context, plan = contest.context, contest.plan
    path = context.staging / f"{standing.contender}.parquet"
    per_user.write_parquet(path, compression="zstd")
    users_file = context.artefacts.put(path, "parquet")
    state = context.artefacts.put_arrays(model.state(), context.staging)
    last = contest.stages[-1]
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
            shape=last.train.shape,
            cells=last.train.n_cells,
            state=state,
            matrix=contest.matrix,
        )
        name = models.add(connection, new)
        figure = standing.figure(plan.spec.rank.decide_by)
        assert figure is not None
        jobs.log(connection, context.claim.id, f"{name}: {figure.metric} {figure.mean:.4f} on the test part")


def _per_user_frame(stage: Stage, found: Figures) -> pl.DataFrame:
    users = stage.train.users.take(stage.truth.user_rows)
    columns = {"part": [stage.part] * len(users), "user": users}
    return pl.DataFrame(columns | {name: values.astype(np.float32) for name, values in found.per_user.items()})


def _against(contest: Contest, contender: ContenderSpec, found: Figures) -> Against:
    """Paired difference to popularity on the deciding metric of the last stage, which is the test part."""
    mine = found.per_user[contest.plan.spec.rank.decide_by]
    if contest.popular is None:
        contest.popular = mine
        return Against(difference=0, low=0, high=0, verdict="baseline")
    gap = paired_difference(mine, contest.popular, contest.plan.spec.seed)
    verdict = "better" if gap.low > 0 else "worse" if gap.high < 0 else "cannot tell"
    return Against(difference=gap.mean, low=gap.low, high=gap.high, verdict=verdict)


def _note_deciding(contest: Contest, label: str, figures: list[Figure]) -> None:
    """Remember the figure that decides: on validation where there is one, so that the test part chooses nothing."""
    part = contest.stages[0].part
    decide_by = contest.plan.spec.rank.decide_by
    contest.deciding[label] = next(f.mean for f in figures if f.part == part and f.metric == decide_by)


def _recall(contest: Contest, contender: ContenderSpec, digest: str) -> None:
    """Take the figures of a contender that is finished from its file."""
    decide_by = contest.plan.spec.rank.decide_by
    kept = pl.read_parquet(contest.context.artefacts.local_path(digest))
    mine = kept.filter(part=contest.stages[0].part)[decide_by].cast(pl.Float64).to_numpy()
    contest.deciding[contender.label] = float(mine.mean())
    if contest.popular is None:
        contest.popular = kept.filter(part="test")[decide_by].cast(pl.Float64).to_numpy()


@dataclass(frozen=True)
class _Watch:
    """Training progress as job progress."""

    part: Part
    label: str
    stage: str

    def __call__(self, done: float, iteration: int, losses: dict[str, float]) -> bool:
        goal = "validation" if self.stage == "validation" else "test"
        text = f"{self.label}: fitting for {goal}, iteration {iteration}"
        part = self.part
        return part.context.tell(part.start + (part.stop - part.start) * done, text)
