"""The job behind `shelf refresh`: events into a version, models fitted anew, judged, and proposed to be served."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import InputError
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import build
from gleaner.core.preparation.prepare import keep_rows, prepare
from gleaner.jobs.datasets.divide import preparation_of, read_rows
from gleaner.jobs.datasets.side_tables import SideTables
from gleaner.jobs.events.gather import gather
from gleaner.jobs.models.following import follow, told
from gleaner.jobs.models.model_files import load_model
from gleaner.jobs.models.train import new_model, refresh
from gleaner.jobs.shelves.guard import cut_of, judge
from gleaner.jobs.shelves.renamed_file import renamed_file
from gleaner.jobs.worker.context import JobContext
from gleaner.jobs.worker.memory import PeakMemory
from gleaner.store import datasets, jobs, models, refreshes, served, shelves
from gleaner.store.datasets import VersionFiles
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.models import ModelCard
from gleaner.wire.shelves.refreshes import GuardOutcome, RefreshRequest, RefreshSpec
from gleaner.wire.shelves.shelf import ShelfVersion

GATHERED, JUDGED, FITTED = 0.15, 0.5, 0.95
TRIED_WITHIN_S, LOOK_S = 60.0, 0.2


@dataclass(eq=False)
class RefreshRun:
    """One refresh while it runs."""

    context: JobContext
    refresh_id: int
    version: ShelfVersion
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
    asked = RefreshRequest.model_validate(context.claim.payload)
    with context.engine.begin() as connection:
        row = refreshes.of_job(connection, context.claim.id)
        version = shelves.get(connection, f"{row.shelf}@{row.from_number}")
    work = RefreshRun(context, row.id, version, version.spec.refresh or RefreshSpec())
    if row.state == "running":
        _steps(work, only_judge=asked.only_judge)
    return _ended(work)


def _steps(work: RefreshRun, *, only_judge: bool) -> None:
    """From events to a proposal, or to the reason why there is none."""
    context, names = work.context, work.version.spec.models()
    with context.engine.begin() as connection:
        cards = {name: models.card(connection, name) for name in names}
    files = _data(work)
    if all(card.data == files.name for card in cards.values()):
        work.note("kept", f"nothing new: every model of the shelf was fitted on {files.name}")
        return
    rows = read_rows(context.artefacts.local_path(files.interactions_file), files.scale)
    guard = _judged(work, cards, files, rows)
    work.outcome["guard"] = guard.model_dump(mode="json")
    work.log(f"guard: {guard.said}")
    if not guard.passed or only_judge:
        why = "it was only to be judged" if guard.passed else guard.said
        work.note("kept", f"{why}; {work.version.name} goes on being served")
        return
    work.note()
    made = work.outcome["models"] = {}
    for place, (name, card) in enumerate(cards.items()):
        share = (FITTED - JUDGED) / len(cards)
        part = context.within(JUDGED + share * place, JUDGED + share * (place + 1))
        made[name] = _fitted_on_all(part, card, files, rows, work.how)
        work.log(f"{name} became {made[name]}")
    file = renamed_file(work.version.file, made)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        refreshes.propose(connection, work.refresh_id, work.outcome, work.version.spec.renamed(made), file, files.id)


def _data(work: RefreshRun) -> VersionFiles:
    """The newest version of the data, made now where events are to be taken in and there are some."""
    context, dataset = work.context, work.version.data.partition("@")[0]
    if work.how.events:
        name, count = gather(context.within(0.0, GATHERED), dataset)
        work.outcome["events"] = count
        work.log(f"{name}: {count:,} events taken in" if count else f"no events since {name}")
    with context.engine.begin() as connection:
        files = datasets.files(connection, dataset)
    work.outcome["data"] = files.name
    work.note()
    return files


def _judged(work: RefreshRun, cards: dict[str, ModelCard], files: VersionFiles, rows: InteractionRows) -> GuardOutcome:
    """The model that scores, fitted anew, beside the one that is served."""
    context, spec = work.context, work.version.spec
    main = spec.main() or next(step.model for step in spec.fallback if step.model is not None)
    card = cards[main]
    with context.engine.begin() as connection:
        held = models.files(connection, main)
        newest = _newest_row(datasets.version(connection, card.data)) if held.version_id is not None else None
    current = load_model(context.artefacts, held)
    how = PrepareSpec.model_validate(card.prepare)
    part = context.within(GATHERED, JUDGED)
    tables = SideTables(context, files)

    def fit(train: InteractionMatrix) -> Model:
        model = build(card.family, card.params)
        watch = follow(part.part(0.3, 0.8, ""), card.family, "the guard")
        return model.fit(train, features=tables.for_model(model, train), watch=watch)

    def shown_to(users: Sequence[str]) -> list[tuple[str, str]]:
        assert newest is not None
        with context.engine.begin() as connection:
            return served.shown_since(connection, files.name.partition("@")[0], newest, users)

    guard = work.how.guard
    since = cut_of(rows, how, newest, guard.held_out)
    lists = shown_to if guard.judged_by == "unprompted" else None
    return judge(current, rows, how, since, guard, fit, part.require_going, lists)


def _newest_row(version: Any) -> datetime | None:
    return None if version.profile.span is None else version.profile.span.last


def _fitted_on_all(
    context: JobContext, card: ModelCard, files: VersionFiles, rows: InteractionRows, how: RefreshSpec
) -> str:
    """A model like another, on every row; answers its name."""
    memory, begun = PeakMemory(), time.perf_counter()
    prepared = PrepareSpec.model_validate(card.prepare)
    declared = preparation_of(prepared)
    train = prepare(keep_rows(rows, declared)[0], declared).matrix
    model, note = build(card.family, card.params), None
    watch = follow(context.part(0.1, 0.9, ""), card.name.partition("@")[0], "everything")
    features = SideTables(context, files).for_model(model, train)
    if how.fit == "go_on":
        with context.engine.begin() as connection:
            held = models.files(connection, card.name)
        note = refresh(model, load_model(context.artefacts, held), train, watch, features)
    else:
        model.fit(train, features=features, watch=watch)
    story = models.Story(
        origin="refresh" if how.fit == "go_on" else "train",
        data=files.name,
        content_hash=files.content_hash,
        prepare=prepared.model_dump(mode="json"),
        fit_seconds=time.perf_counter() - begun,
        peak_memory_mb=memory.megabytes(),
        scale=train.scale,
        parent=card.name,
        note=note,
        **told(watch),
    )
    new = new_model(context, card.name.partition("@")[0], files.id, model, train, "everything", story)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        return models.add(connection, new)


def _ended(work: RefreshRun) -> dict[str, Any]:
    """Wait for a serving process to try what is proposed, then say how it ended."""
    context, end = work.context, time.monotonic() + TRIED_WITHIN_S
    while True:
        with context.engine.begin() as connection:
            found = refreshes.get(connection, work.refresh_id)
        if found.state != "proposed" or time.monotonic() > end:
            break
        context.tell(FITTED, "waiting for a serving process to try it")
        time.sleep(LOOK_S)
    said = {
        "published": f"{found.published} is served, from {found.began_from}",
        "proposed": "no serving process is there to try it; the first that comes will",
    }.get(found.state, f"{found.state}: {found.reason}")
    with context.engine.begin() as connection:
        if found.state == "refused":
            raise InputError(str(found.reason), where="shelf")
        result = found.model_dump(mode="json")
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=said)
    return result
