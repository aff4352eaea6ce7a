"""The job behind `shelf refresh`: events into a version, models fitted anew, judged, and proposed to be served."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from gleaner.core.contests import guard as guarding
from gleaner.core.contests.guard import DIVIDED, Guard, GuardTask, GuardVerdict, judge, rows_since
from gleaner.core.contests.listening import watched
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import InputError
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.models.base.capabilities import columns_of
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import any_takes_context, build
from gleaner.core.preparation.prepare import prepare_everything
from gleaner.jobs.contests.declarations import preparation_of
from gleaner.jobs.datasets.side_tables import side_tables
from gleaner.jobs.events.gather import gather
from gleaner.jobs.models.listener import progress_stretch
from gleaner.jobs.models.story import story_of
from gleaner.jobs.models.train import new_model, refresh
from gleaner.jobs.shelves.renamed_file import renamed_file
from gleaner.jobs.worker.context import JobContext
from gleaner.jobs.worker.memory import PeakMemory
from gleaner.store import datasets, jobs, models, refreshes, served_lists, shelves
from gleaner.store.datasets import VersionFiles
from gleaner.store.files.interactions import read_rows
from gleaner.store.files.models import load_model
from gleaner.store.records.datasets import VersionRecord
from gleaner.store.records.models import ModelRecord
from gleaner.store.records.shelves import ShelfVersionRecord
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.names import plain_name
from gleaner.wire.shelves.refreshes import GuardOutcome, GuardSpec, JudgedModel, Refresh, RefreshRequest, RefreshSpec

GATHERED, JUDGED, FITTED = 0.15, 0.5, 0.95
TRIED_WITHIN_S, LOOK_S = 60.0, 0.2


@dataclass(eq=False)
class RefreshRun:
    """One refresh while it runs."""

    context: JobContext
    refresh_id: int
    version: ShelfVersionRecord
    how: RefreshSpec
    outcome: dict[str, Any] = field(default_factory=dict)

    def log(self, text: str) -> None:
        """Put a step down."""
        self.context.log(text)

    def note(self, state: str = "running", reason: str | None = None) -> None:
        """Keep how far it is."""
        with self.context.engine.begin() as connection:
            jobs.require_current(connection, self.context.claim)
            refreshes.note(connection, self.refresh_id, self.outcome, state, reason)


def run(context: JobContext) -> dict[str, Any]:
    """Every step, each put down in the job's log; answers the refresh."""
    request = RefreshRequest.model_validate(context.claim.payload)
    with context.engine.begin() as connection:
        row = refreshes.of_job(connection, context.claim.id)
        version = shelves.get(connection, f"{row.shelf}@{row.from_number}")
    work = RefreshRun(context, row.id, version, version.spec.refresh or RefreshSpec())
    if row.state == "running":
        _steps(work, only_judge=request.only_judge)
    return _ended(work)


def _steps(work: RefreshRun, *, only_judge: bool) -> None:
    """From events to a proposal, or to the reason why there is none."""
    context, names = work.context, work.version.spec.models()
    with context.engine.begin() as connection:
        kept = {name: models.get(connection, name) for name in names}
    files = _data(work)
    if all(each.data == files.name for each in kept.values()):
        work.note("kept", f"nothing new: every model of the shelf was fitted on {files.name}")
        return
    path = context.artefacts.local_path(files.interactions_file)
    with_context = any_takes_context(each.family for each in kept.values())
    rows = read_rows(path, files.scale, with_context=with_context)
    guard = _judged(work, kept, files, rows)
    work.outcome["guard"] = guard.model_dump(mode="json")
    work.log(f"guard: {guard.said}")
    if not guard.passed or only_judge:
        why = "it was only to be judged" if guard.passed else guard.said
        work.note("kept", f"{why}; {work.version.name} goes on being served")
        return
    work.note()
    became = work.outcome["models"] = {}
    for place, (name, model) in enumerate(kept.items()):
        share = (FITTED - JUDGED) / len(kept)
        part = context.within(JUDGED + share * place, JUDGED + share * (place + 1))
        became[name] = _fitted_on_all(part, model, files, rows, work.how)
        work.log(f"{name} became {became[name]}")
    file = renamed_file(work.version.file, became)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        refreshes.propose(connection, work.refresh_id, work.outcome, work.version.spec.renamed(became), file, files.id)


def _data(work: RefreshRun) -> VersionFiles:
    """The newest version of the data, made now where events are to be taken in and there are some."""
    context, dataset = work.context, plain_name(work.version.data)
    if work.how.events:
        gathered = gather(context.within(0.0, GATHERED), dataset)
        work.outcome["events"] = gathered.events
        work.log(str(gathered))
    with context.engine.begin() as connection:
        files = datasets.files(connection, dataset)
    work.outcome["data"] = files.name
    work.note()
    return files


def _judged(work: RefreshRun, kept: dict[str, ModelRecord], files: VersionFiles, rows: InteractionRows) -> GuardOutcome:
    """The model that scores, fitted anew, beside the one that is served."""
    context, spec = work.context, work.version.spec
    main = spec.main() or next(step.model for step in spec.fallback if step.model is not None)
    served_now = kept[main]
    with context.engine.begin() as connection:
        served_files = models.files(connection, main)
        newest = (
            _newest_row(datasets.version(connection, served_now.data)) if served_files.version_id is not None else None
        )
    current = load_model(context.artefacts, served_files)
    preparation = preparation_of(PrepareSpec.model_validate(served_now.prepare))
    stretch = progress_stretch(context, GATHERED, JUDGED)
    tables = side_tables(context, files)

    def fit(train: InteractionMatrix) -> Model:
        model = build(served_now.family, served_now.params)
        watch = watched(stretch.part(DIVIDED, guarding.FITTED), served_now.family, "the guard")
        return model.fit(train, features=tables.for_model(model, train), watch=watch)

    def shown_to(users: Sequence[str]) -> list[tuple[str, str]]:
        assert newest is not None
        with context.engine.begin() as connection:
            return served_lists.shown_since(connection, plain_name(files.name), newest, users)

    guard = work.how.guard
    since = rows_since(rows, preparation, newest, guard.held_out)
    lists = shown_to if guard.judged_by == "unprompted" else None
    task = GuardTask(current, rows, preparation, since, fit, lists)
    return _outcome(guard, judge(task, _guard_of(guard), stretch), current.name)


def _guard_of(spec: GuardSpec) -> Guard:
    """What must hold, as the file declares it."""
    return Guard(MetricReference.parse(f"{spec.metric}@{spec.at}"), spec.worse_by, spec.certainty, spec.least_users)


def _outcome(guard: GuardSpec, verdict: GuardVerdict, current: str) -> GuardOutcome:
    """What the guard saw, as a message."""
    judged = {
        place: JudgedModel(model=name, **vars(verdict.figures[place]))
        for place, name in (("current", current), ("new", "refreshed"))
        if place in verdict.figures
    }
    gap = verdict.difference
    return GuardOutcome(
        metric=f"{guard.metric}@{guard.at}",
        users=verdict.users,
        rows_learned=verdict.learned,
        rows_held=verdict.held_out,
        prompted=verdict.prompted,
        current=judged.get("current"),
        new=judged.get("new"),
        difference=None if gap is None else (gap.mean, gap.low or 0.0, gap.high or 0.0),
        passed=verdict.passed,
        said=verdict.reason,
    )


def _newest_row(version: VersionRecord) -> datetime | None:
    return None if version.profile.span is None else version.profile.span.last


def _fitted_on_all(
    context: JobContext, like: ModelRecord, files: VersionFiles, rows: InteractionRows, how: RefreshSpec
) -> str:
    """A model like another, on every row; answers its name."""
    memory, begun = PeakMemory(), time.perf_counter()
    prepared = PrepareSpec.model_validate(like.prepare)
    train = prepare_everything(rows, preparation_of(prepared)).matrix
    model, note = build(like.family, like.params), None
    watch = watched(progress_stretch(context, 0.1, 0.9), plain_name(like.name), "everything")
    features = side_tables(context, files).for_model(model, train)
    if how.fit == "go_on":
        with context.engine.begin() as connection:
            parent_files = models.files(connection, like.name)
        note = refresh(model, load_model(context.artefacts, parent_files), train, watch, features)
    else:
        model.fit(train, features=features, watch=watch)
    story = story_of(
        model,
        watch,
        train,
        columns_of(model, features),
        origin="refresh" if how.fit == "go_on" else "train",
        data=files.name,
        content_hash=files.content_hash,
        prepare=prepared.model_dump(mode="json"),
        fit_seconds=time.perf_counter() - begun,
        peak_memory_mb=memory.megabytes(),
        parent=like.name,
        note=note,
        likelihood=like.story.likelihood,
    )
    new = new_model(context, plain_name(like.name), files.id, model, train, "everything", story)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        return models.add(connection, new)


def _ended(work: RefreshRun) -> dict[str, Any]:
    """Wait for a serving process to try what is proposed, then say how it ended."""
    context, end = work.context, time.monotonic() + TRIED_WITHIN_S
    while True:
        with context.engine.begin() as connection:
            refresh_now = refreshes.get(connection, work.refresh_id)
        if refresh_now.state != "proposed" or time.monotonic() > end:
            break
        context.report_progress(FITTED, "waiting for a serving process to try it")
        time.sleep(LOOK_S)
    message = {
        "published": f"{refresh_now.published} is served, from {refresh_now.began_from}",
        "proposed": "no serving process is there to try it; the first that comes will",
    }.get(refresh_now.state, f"{refresh_now.state}: {refresh_now.reason}")
    with context.engine.begin() as connection:
        if refresh_now.state == "refused":
            raise InputError(str(refresh_now.reason), where="shelf")
        result = Refresh.of_record(refresh_now).model_dump(mode="json")
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=message)
    return result
