"""The job behind `shelf evaluate`: a shelf whose models are fitted on what the test part of a run leaves, listing for
the users of that part, stage by stage, beside the run's contenders."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from sqlalchemy import Connection

from gleaner.core.contests.comparison import compared
from gleaner.core.contests.listening import watched
from gleaner.core.contests.parts import SplitStage, divide
from gleaner.core.contests.side_tables import SideTables
from gleaner.core.data.past import PastRows
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.tables.context_encoder import TIME_PARTS
from gleaner.core.errors import CancelledError, DataError, InputError
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.evaluation import Figures, RankPlan
from gleaner.core.metrics.ranking import require_cutoffs
from gleaner.core.metrics.verdicts import oriented
from gleaner.core.models.base.context import context_columns
from gleaner.core.models.base.registry import any_takes_context, build
from gleaner.core.models.composition.fit_cache import FitCache
from gleaner.core.preparation.prepare import keep_rows
from gleaner.core.splits.split import split
from gleaner.core.splits.truth import Truth
from gleaner.jobs.contests.declarations import preparation_of, relevance_of, split_of
from gleaner.jobs.contests.messages import pair_message
from gleaner.jobs.datasets.side_tables import side_tables
from gleaner.jobs.lists.beside import compared_beside, contender_figures, metrics_of_lists
from gleaner.jobs.models.listener import progress_stretch
from gleaner.jobs.models.model_cache import ModelCache
from gleaner.jobs.shelves.training_lookups import TrainingLookups
from gleaner.jobs.worker.context import JobContext
from gleaner.jobs.worker.memory import PeakMemory
from gleaner.serving.evaluation import CandidateFigures, HeldOutUsers, candidates_of, drawn_users, lists_of, stage_times
from gleaner.serving.shelf import LoadedShelf
from gleaner.store import contests, datasets, jobs, models, shelves
from gleaner.store.files.interactions import read_rows
from gleaner.store.records.contests import RunRecord
from gleaner.store.records.models import ModelRecord
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.contests.runs import Figure, PairDifference
from gleaner.wire.names import plain_name
from gleaner.wire.shelves.evaluations import (
    CandidatesReport,
    EvaluateShelfRequest,
    FittedMember,
    ShelfEvaluation,
    ShelfVariant,
    SourceReport,
    StageMedian,
)
from gleaner.wire.shelves.shelf import ShelfSpec, SlotsSpec

DIVIDED, FITTED, LISTED = 0.1, 0.6, 0.98
WITHOUT: dict[str, tuple[str, SlotsSpec | None]] = {
    "slots": ("without slots", SlotsSpec()),
    "order": ("without its order", None),
    "where": ("without its condition", None),
}
"""Parts of a file whose price in accuracy is asked for, and what stands in their place then."""
UNSCORED = "as the sources bring them"


@dataclass(frozen=True, eq=False)
class ShelfParts:
    """A shelf with all that it names: shelves that it lists from, and models by the names that are used."""

    label: str
    spec: ShelfSpec
    others: dict[str, ShelfSpec]
    models: dict[str, ModelRecord]


def run(context: JobContext) -> dict[str, Any]:
    """Answers the evaluation."""
    request = EvaluateShelfRequest.model_validate(context.claim.payload)
    with context.engine.begin() as connection:
        run, files = contests.files_of_run(connection, request.beside)
        version = datasets.files(connection, run.data)
        parts = shelf_parts(connection, request, run)
    context.require_going(0.01, "reading interactions")
    path = context.artefacts.local_path(version.interactions_file)
    families = [each.family for each in parts.models.values()]
    rows = read_rows(path, version.scale, with_context=any_takes_context(families))
    stage = _test_part(context, rows, run, parts)
    tables = side_tables(context, version)
    fitted, members = _fitted(context, stage, tables, parts)
    library = ModelCache(context.engine, context.artefacts)
    items, users = library.items_of_version(version.id), library.users_of_version(version.id)
    lookups = TrainingLookups(fitted, items, users, _past(rows, run), parts.others)
    paths = {label: context.artefacts.local_path(digest) for label, digest in files.items()}
    work = Evaluation(context, run, paths, parts, stage, tables, lookups, members)
    report = work.report(request.users).model_dump(mode="json")
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        text = f"{parts.label}: evaluated on {report['users']:,} users of {run.data}, beside {run.name}"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=report, message=text)
    return report


def shelf_parts(connection: Connection, request: EvaluateShelfRequest, run: RunRecord) -> ShelfParts:
    """What a shelf names. Raises UnknownNameError, and InputError for models of other data or a run whose test part is
    not one of known users."""
    if run.spec.split.by in ("folds", "users"):
        what = "folds make several test parts" if run.spec.split.by == "folds" else "its users are new to training"
        raise InputError(f"{run.name} is split by {run.spec.split.by}: {what}; name another run", where="beside")
    if request.file is not None:
        spec = ShelfSpec.model_validate(_yaml(request.file.file))
        label = f"shelf {spec.shelf}"
    else:
        record = shelves.get(connection, request.shelf or "")
        spec, label = record.spec, f"shelf {record.name}"
    others: dict[str, ShelfSpec] = {}
    waiting, named = [spec], dict[str, ModelRecord]()
    while waiting:
        each = waiting.pop()
        named |= {name: models.get(connection, name) for name in each.models()}
        for name in (source.shelf for source in each.candidates):
            if name is not None and name not in others:
                others[name] = shelves.get(connection, name).spec
                waiting.append(others[name])
    for name, model in named.items():
        if plain_name(model.data) != plain_name(run.data):
            text = f"{model.name} was trained on {model.data}, and {run.name} is about {run.data}"
            raise InputError(text, where=f"model {name}")
    return ShelfParts(label, spec, others, named)


def _yaml(text: str) -> Any:
    from ruamel.yaml import YAML

    return YAML(typ="safe").load(text)


def _test_part(context: JobContext, rows: InteractionRows, run: RunRecord, parts: ShelfParts) -> SplitStage:
    """The test part as the run divides it, with what each model that has a preparation of its own is fitted on."""
    common = preparation_of(run.spec.prepare)
    prepared = {each.name: preparation_of(PrepareSpec.model_validate(each.prepare)) for each in parts.models.values()}
    own = {name: how for name, how in prepared.items() if how != common}

    def report_progress(done: float, message: str) -> None:
        context.require_going(0.01 + (DIVIDED - 0.01) * done, message)

    rule = split_of(run.spec.split, run.spec.seed)
    stage = divide(rows, common, rule, report_progress, relevance_of(run.spec.rank), own).stage("test")
    if stage is None or not len(stage.truth.user_rows):
        raise DataError("no user has a relevant item in the test part that training could recommend", where="split")
    require_cutoffs(run.spec.rank.at, len(stage.train.items))
    return stage


def _past(rows: InteractionRows, run: RunRecord) -> PastRows:
    """Histories without a row of the test part."""
    kept, _ = keep_rows(rows, preparation_of(run.spec.prepare))
    return PastRows.of(split(kept, split_of(run.spec.split, run.spec.seed)).train_and_validation())


def _fitted(
    context: JobContext, stage: SplitStage, tables: SideTables, parts: ShelfParts
) -> tuple[dict[str, Fitted], list[FittedMember]]:
    """Every model once, those that others are made of first."""
    records = list({each.name: each for each in parts.models.values()}.values())
    records.sort(key=lambda each: "members" in each.params)
    lent = FitCache.of_members(build(each.family, each.params) for each in records)
    fitted: dict[str, Fitted] = {}
    members: list[FittedMember] = []
    for at, record in enumerate(records):
        low, high = (DIVIDED + (FITTED - DIVIDED) * place / len(records) for place in (at, at + 1))
        model, train = build(record.family, record.params), stage.own_of(record.name).train
        watch = watched(progress_stretch(context, low, high), record.name, "the test part")
        watch.lent = lent
        memory, begun = PeakMemory(), time.perf_counter()
        model.fit(train, features=tables.for_model(model, train), watch=watch)
        lent.keep(model, train)
        seconds = time.perf_counter() - begun
        members.append(
            FittedMember(model=record.name, family=record.family, seconds=seconds, memory_mb=memory.megabytes())
        )
        fitted[record.name] = Fitted(record.name, model, train)
    return {name: fitted[record.name] for name, record in parts.models.items()}, members


@dataclass(frozen=True, eq=False)
class Evaluation:
    """A shelf that can answer, the test part it answers for, and the run it is compared with."""

    context: JobContext
    run: RunRecord
    files: dict[str, Path]
    parts: ShelfParts
    stage: SplitStage
    tables: SideTables
    lookups: TrainingLookups
    members: list[FittedMember]

    def report(self, most_users: int) -> ShelfEvaluation:
        """Every stage, every variant, every contender."""
        rank, label = self.run.spec.rank, self.parts.label
        given, left_out = metrics_of_lists(rank)
        plan, n = RankPlan(given, rank.at, self.run.spec.seed), max(rank.at)
        shelf = self.lookups.build(self.parts.spec)
        held_out = self._held_out(shelf, most_users)
        variants = {name: self.lookups.build(spec) for name, spec in variants_of(self.parts.spec).items()}
        told = self._stretches(["the candidates", label, *variants])
        candidates = candidates_of(shelf, held_out, plan, next(told))
        lists, for_everyone = lists_of(shelf, held_out, n, next(told))
        served = held_out.figures(lists, plan)
        without = {
            name: held_out.figures(lists_of(each, held_out, n, next(told))[0], plan) for name, each in variants.items()
        }
        if candidates is not None:
            without[UNSCORED] = held_out.figures(candidates.lists, plan)
        users = self.stage.known.users.take(held_out.truth.user_rows)
        return ShelfEvaluation(
            label=label,
            data=self.run.data,
            beside=self.run.name,
            users=len(users),
            users_of_part=len(self.stage.truth.user_rows),
            for_everyone=for_everyone,
            decide_by=rank.decide_by,
            models=self.members,
            candidates=None if candidates is None else _candidates_report(candidates),
            figures=_figures(served),
            variants=[ShelfVariant(label=name, figures=_figures(each)) for name, each in without.items()],
            price=self._price({label: served} | without),
            stages=_stages(shelf, held_out, n),
            contenders=contender_figures(self.run, list(served.means)),
            comparison=compared_beside(label, users, served.per_user, self.files, self.run),
            left_out=left_out,
            notes=_notes(self.parts.spec, shelf),
        )

    def _held_out(self, shelf: LoadedShelf, most_users: int) -> HeldOutUsers:
        rank, stage = self.run.spec.rank, self.stage
        truth = drawn_users(stage.truth, most_users, self.run.spec.seed)
        content = self.tables.content(stage.train.items, rank.content, rank.categories)
        return HeldOutUsers(truth, stage.known, stage.train, content, _contexts(shelf, truth))

    def _stretches(self, names: list[str]) -> Iterator[Callable[[float], None]]:
        """What hears how far each of several passes over the users is, one after the other."""
        width = (LISTED - FITTED) / len(names)
        for place, name in enumerate(names):
            start = FITTED + width * place
            part = self.context.part(start, start + width, f"listing {name}")
            yield lambda done, part=part: _require(part(done))  # type: ignore[misc]

    def _price(self, figures: dict[str, Figures]) -> list[PairDifference]:
        """The shelf less each variant on the deciding metric, where lists have it."""
        spec, mine = self.run.spec, self.parts.label
        metric = spec.rank.decide_by
        by_user = {label: each.per_user[metric] for label, each in figures.items() if metric in each.per_user}
        comparison = compared(by_user, spec.rank.deciding, spec.seed, mine, []) if len(by_user) > 1 else None
        if comparison is None:
            return []
        return [pair_message(oriented(comparison.pairs, mine, other)) for other in by_user if other != mine]


def _require(going: bool) -> None:
    if not going:
        raise CancelledError


def variants_of(spec: ShelfSpec) -> dict[str, ShelfSpec]:
    """The same file without each part that may cost accuracy."""
    return {
        label: spec.model_copy(update={part: instead})
        for part, (label, instead) in WITHOUT.items()
        if getattr(spec, part) != instead
    }


def _contexts(shelf: LoadedShelf, truth: Truth) -> list[dict[str, Any]]:
    """The context in which each user asks, of the columns that the model which scores looks at."""
    names = [name for name in shelf.context_columns if truth.context is not None and name in truth.context.columns]
    if truth.context is None or not names:
        return []
    rows = truth.context.select(names).iter_rows(named=True)
    return [{name: _plain(cell) for name, cell in row.items() if cell is not None} for row in rows]


def _plain(cell: Any) -> Any:
    return cell.isoformat() if isinstance(cell, date) else cell


def _figures(figures: Figures) -> list[Figure]:
    return [Figure(metric=name, part="test", **vars(each)) for name, each in figures.means.items()]


def _candidates_report(found: CandidateFigures) -> CandidatesReport:
    sources = [
        SourceReport(name=each.name, taken=each.taken, recall=Figure(metric="recall", part="test", **vars(each.recall)))
        for each in found.sources
    ]
    return CandidatesReport(
        sources=sources, users=found.users, scored=_figures(found.scored), brought=_figures(found.brought)
    )


def _stages(shelf: LoadedShelf, held_out: HeldOutUsers, n: int) -> list[StageMedian]:
    return [
        StageMedian(stage=name, items=items, milliseconds=took) for name, items, took in stage_times(shelf, held_out, n)
    ]


def _notes(spec: ShelfSpec, shelf: LoadedShelf) -> list[str]:
    """What is otherwise than it would be served."""
    notes = []
    if spec.where is not None and "now()" in spec.where:
        notes.append("conditions over now() look at today, and not at the days of the test part")
    if spec.order is not None and spec.order.sample is not None:
        notes.append("the order is drawn: another evaluation draws another")
    if set(context_columns(shelf.model.fitted.model)) & set(TIME_PARTS):
        notes.append("the hour and day that the model looks at are those of now")
    return notes
