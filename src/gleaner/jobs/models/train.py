"""The job behind `model train` and `model refresh`: one model, without a contest."""

from __future__ import annotations

import time
from typing import Any

import numpy as np

from gleaner import __version__
from gleaner.core.contests.judging import StageJudge
from gleaner.core.contests.listening import watched
from gleaner.core.contests.parts import SplitStage, divide
from gleaner.core.contests.plan import epoch_plan
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.evaluation import RankPlan
from gleaner.core.models.base.capabilities import PredictsValues, Refreshable, columns_of, having_log_odds
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import any_takes_context, build
from gleaner.core.models.base.watching import Watch, stops_early
from gleaner.core.preparation.prepare import prepare_everything
from gleaner.jobs.contests.declarations import preparation_of, split_of
from gleaner.jobs.datasets.side_tables import side_tables
from gleaner.jobs.models.listener import progress_stretch
from gleaner.jobs.models.story import story_of
from gleaner.jobs.worker.context import JobContext
from gleaner.jobs.worker.memory import PeakMemory
from gleaner.store import datasets, jobs, models
from gleaner.store.files.interactions import read_rows
from gleaner.store.files.models import keep_matrix, load_model
from gleaner.store.records.models import Story
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.models.training import TrainRequest
from gleaner.wire.names import plain_name

READ, FITTED = 0.15, 0.9
COMPARED_USERS = 1000
COMPARED_TOP = 10


def run(context: JobContext) -> dict[str, Any]:
    """Prepare, fit and register a model, and a fallback beside it if one is asked for."""
    request = TrainRequest.model_validate(context.claim.payload)
    fitted = [_fitted(context, request)]
    if request.fallback_like is not None:
        fitted.append(_fitted(context, _fallback(context, request, request.fallback_like)))
    return _keep(context, fitted)


def _fallback(context: JobContext, request: TrainRequest, like: str) -> TrainRequest:
    """Return the request of a model like another, on the rows of a request."""
    with context.engine.begin() as connection:
        record = models.get(connection, like)
    return TrainRequest(
        data=request.data,
        family=record.family,
        params=record.params,
        name=plain_name(record.name),
        prepare=PrepareSpec.model_validate(record.prepare),
        like=record.name,
        seed=request.seed,
    )


def _fitted(context: JobContext, request: TrainRequest) -> models.NewModel:
    """Prepare and fit one model. Its files are in place afterwards."""
    with context.engine.begin() as connection:
        files = datasets.files(connection, request.data)
        old_files = models.files(connection, request.refresh) if request.refresh else None
        parent = request.refresh or request.like
        likelihood = models.get(connection, parent).story.likelihood if parent else None
    context.require_going(0.01, "reading interactions")
    path = context.artefacts.local_path(files.interactions_file)
    rows = read_rows(path, files.scale, with_context=any_takes_context([request.family]))
    train, stage = _parts(context, request, rows)
    del rows
    old = load_model(context.artefacts, old_files) if old_files else None
    memory, begun = PeakMemory(), time.perf_counter()
    model = build(request.family, request.params)
    watch = _watch(context, request, model, stage)
    features = side_tables(context, files).for_model(model, train)
    note = None
    if old is None:
        model.fit(train, features=features, watch=watch)
    else:
        note = refresh(model, old, train, watch, features)
    seconds, megabytes = time.perf_counter() - begun, memory.megabytes()
    if old is not None and request.compare:
        context.require_going(FITTED, "fitting from scratch, to compare")
        note = f"{note} {compared(Fitted('refreshed', model, train), request, seconds, features)}"
    story = story_of(
        model,
        watch,
        train,
        columns_of(model, features),
        origin="refresh" if request.refresh else "train",
        data=files.name,
        content_hash=files.content_hash,
        prepare=request.prepare.model_dump(mode="json"),
        split=request.split.model_dump(mode="json") if request.on == "training" else {},
        fit_seconds=seconds,
        peak_memory_mb=megabytes,
        parent=parent,
        note=note,
        likelihood=likelihood if having_log_odds(model) else None,
    )
    context.require_going(0.95, "storing the model")
    name = request.name or f"{story.data.split('@')[0]}.{request.family}"
    return new_model(context, name, files.id, model, train, request.on, story)


def _parts(context: JobContext, request: TrainRequest, rows: Any) -> tuple[InteractionMatrix, SplitStage | None]:
    """What to fit on, and the validation part to judge by where there is one."""
    preparation = preparation_of(request.prepare)
    if request.on == "everything":
        context.require_going(0.05, "preparing")
        return prepare_everything(rows, preparation).matrix, None

    def report_progress(done: float, message: str) -> None:
        context.require_going(0.02 + (READ - 0.02) * done, message)

    stage = divide(rows, preparation, split_of(request.split, request.seed), report_progress).stage("validation")
    if stage is None:
        raise InputError("training on the training part needs a validation part to be watched on", where="split")
    return stage.train, stage


def _watch(context: JobContext, request: TrainRequest, model: Model, stage: SplitStage | None) -> Watch:
    """Reports to the job; judges rounds on the validation part where there is one, as a contest would."""
    stretch, how = progress_stretch(context, READ, FITTED), request.watch
    if stage is None:
        return watched(stretch, request.family, request.on, every=how.every)
    metric = MetricReference.parse(how.metric)
    plan = RankPlan([metric.name], [metric.k or 10], request.seed)
    if stops_early(model):
        plan = epoch_plan(metric, 10, request.seed)
    judge = StageJudge(stage, plan, tie_order(stage.train.items))
    held_out = stage.held_out_cells(values=isinstance(model, PredictsValues))
    return watched(
        stretch,
        request.family,
        request.on,
        held_out=held_out,
        judge=judge,
        decide_by=metric,
        every=how.every,
        patience=how.patience,
    )


def refresh(model: Model, old: Fitted, train: InteractionMatrix, watch: Watch, features: Features | None = None) -> str:
    """Fit on newer data from an older model's state where the family can; answers how that differs from a full fit."""
    new = [
        len(ids) - int((known.rows(ids.ids.to_pylist()) >= 0).sum())
        for ids, known in ((train.users, old.train.users), (train.items, old.train.items))
    ]
    fresh = f"{new[0]:,} new users and {new[1]:,} new items"
    if isinstance(model, Refreshable):
        model.refresh(train, old.model, watch)
        return f"Went on from {old.name} with {fresh}: factors it knew start from theirs, so few iterations are needed."
    model.fit(train, features=features, watch=watch)
    return f"{model.family} has no state to go on from: this is a full fit, with {fresh}."


def compared(fresh: Fitted, request: TrainRequest, seconds: float, features: Features | None = None) -> str:
    """How the lists of a refreshed model differ from those of one fitted from scratch."""
    begun = time.perf_counter()
    full = Fitted("full", build(request.family, request.params).fit(fresh.train, features=features), fresh.train)
    took = time.perf_counter() - begun
    n_users = len(fresh.train.users)
    rows = np.random.Generator(np.random.PCG64(request.seed)).permutation(n_users)[:COMPARED_USERS]
    users = fresh.train.users.take(rows)
    lists = [each.recommend(users, COMPARED_TOP).select("user", "item") for each in (fresh, full)]
    same = lists[0].join(lists[1], on=["user", "item"]).height / max(lists[1].height, 1)
    return (
        f"Against a full refit: {same:.0%} of the top {COMPARED_TOP} of {len(users):,} users are the same; "
        f"{seconds:.1f} s instead of {took:.1f} s."
    )


def _keep(context: JobContext, fitted: list[models.NewModel]) -> dict[str, Any]:
    """Register models in one transaction with the end of the job. The first is its result, the second its fallback."""
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        names = [models.add(connection, new) for new in fitted]
        for text in (text for new in fitted for text in new.story.warnings):
            jobs.log(connection, context.claim.id, f"warning: {text}")
        result = dict(zip(("model", "fallback"), names, strict=False))
        first = fitted[0]
        text = f"{names[0]}: {first.shape[0]:,} users, {first.shape[1]:,} items, {first.story.fit_seconds:.1f} s"
        if len(names) > 1:
            text += f"; fallback {names[1]}"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def new_model(
    context: JobContext,
    name: str,
    version_id: int,
    model: Model,
    train: InteractionMatrix,
    on: str,
    story: Story,
) -> models.NewModel:
    """A fitted model with its files in place, to be registered."""
    return models.NewModel(
        name=name,
        standing_id=None,
        version_id=version_id,
        family=model.family,
        params=model.params(),
        trained_on=on,
        code_version=__version__,
        shape=train.shape,
        cells=train.n_cells,
        state=context.artefacts.put_arrays(model.state(), context.staging),
        matrix=keep_matrix(context.artefacts, train, context.staging),
        story=story,
    )
