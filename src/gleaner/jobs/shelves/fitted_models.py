"""The models of a shelf, fitted on what the test part of a run leaves."""

from __future__ import annotations

import time
from dataclasses import replace

from gleaner.core.contests.listening import watched
from gleaner.core.contests.parts import SplitStage
from gleaner.core.contests.side_tables import SideTables
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.registry import build
from gleaner.core.models.composition.fit_cache import FitCache
from gleaner.jobs.models.listener import progress_stretch
from gleaner.jobs.models.model_cache import ModelCache
from gleaner.jobs.shelves.shelf_parts import ShelfParts
from gleaner.jobs.worker.context import JobContext
from gleaner.jobs.worker.memory import PeakMemory
from gleaner.store.records.models import ModelRecord
from gleaner.wire.shelves.evaluations import FittedMember


def fitted_models(
    context: JobContext,
    library: ModelCache,
    stage: SplitStage,
    tables: SideTables,
    parts: ShelfParts,
    low: float,
    high: float,
) -> tuple[dict[str, Fitted], list[FittedMember]]:
    """Every model once, by the names that the shelf uses: those that the run fitted are read, the others fitted, those
    that others are made of first. low, high: the stretch of the job's progress."""
    own = {parts.models[name].name: (name, standing) for name, standing in parts.of_run.items()}
    fitted = {name: library.model(name) for name in own}
    members = [
        FittedMember(
            model=called,
            family=standing.family,
            seconds=standing.fit_seconds,
            memory_mb=standing.peak_memory_mb,
            by_the_run=True,
        )
        for called, standing in own.values()
    ]
    records = [record for record in parts.records() if record.name not in own]
    records.sort(key=lambda each: "members" in each.params)
    lent = FitCache.of_members(build(each.family, each.params) for each in records)
    for name, (_, standing) in own.items():
        if standing.prepare is None:
            lent.keep(fitted[name].model, stage.train)
    for at, record in enumerate(records):
        start, end = (low + (high - low) * place / len(records) for place in (at, at + 1))
        fitted[record.name], member = _fitted(context, stage, tables, record, lent, parts.judged_later, start, end)
        members.append(member)
    by_name = {name: replace(fitted[record.name], name=name) for name, record in parts.models.items()}
    return by_name, members


def _fitted(
    context: JobContext,
    stage: SplitStage,
    tables: SideTables,
    record: ModelRecord,
    lent: FitCache,
    judged_later: bool,
    low: float,
    high: float,
) -> tuple[Fitted, FittedMember]:
    model, train = build(record.family, record.params), stage.own_of(record.name).train
    watch = watched(progress_stretch(context, low, high), record.name, "the test part")
    watch.lent, watch.judged_later = lent, judged_later
    memory, begun = PeakMemory(), time.perf_counter()
    model.fit(train, features=tables.for_model(model, train), watch=watch)
    lent.keep(model, train)
    seconds = time.perf_counter() - begun
    member = FittedMember(model=record.name, family=record.family, seconds=seconds, memory_mb=memory.megabytes())
    return Fitted(record.name, model, train), member
