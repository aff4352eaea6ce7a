"""A shelf that can answer, evaluated on the test part of a run: stage by stage, without each part, beside the
contenders."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from datetime import date
from functools import cached_property
from pathlib import Path
from typing import Any

from gleaner.core.contests.comparison import compared
from gleaner.core.contests.parts import SplitStage
from gleaner.core.contests.side_tables import SideTables
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.past import PastRows
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.tables.context_encoder import TIME_PARTS
from gleaner.core.data.untrained_cells import UntrainedLookup
from gleaner.core.errors import CancelledError
from gleaner.core.metrics.evaluation import Figures, RankPlan
from gleaner.core.metrics.verdicts import oriented
from gleaner.core.models.base.context import context_columns
from gleaner.core.preparation.prepare import keep_rows
from gleaner.core.preparation.untrained import untrained_cells
from gleaner.core.splits.split import split
from gleaner.core.splits.truth import Truth
from gleaner.jobs.contests.declarations import preparation_of, split_of
from gleaner.jobs.contests.messages import pair_message
from gleaner.jobs.lists.beside import compared_beside, contender_figures, metrics_of_lists
from gleaner.jobs.models.model_cache import ModelCache
from gleaner.jobs.shelves.fitted_models import fitted_models
from gleaner.jobs.shelves.shelf_parts import ShelfParts
from gleaner.jobs.shelves.training_lookups import TrainingLookups
from gleaner.jobs.worker.context import JobContext
from gleaner.serving.evaluation import CandidateFigures, HeldOutUsers, candidates_of, drawn_users, lists_of, stage_times
from gleaner.serving.shelf import LoadedShelf
from gleaner.store.datasets import VersionFiles
from gleaner.store.records.contests import RunRecord
from gleaner.wire.contests.contest import ContestSpec, PrepareSpec
from gleaner.wire.contests.runs import Figure, PairDifference
from gleaner.wire.shelves.evaluations import (
    CandidatesReport,
    FittedMember,
    ShelfEvaluation,
    ShelfVariant,
    SourceReport,
    StageMedian,
)
from gleaner.wire.shelves.shelf import ShelfSpec, SlotsSpec

WITHOUT: dict[str, tuple[str, SlotsSpec | None]] = {
    "slots": ("without slots", SlotsSpec()),
    "order": ("without its order", None),
    "where": ("without its condition", None),
}
"""Parts of a file whose price in accuracy is asked for, and what stands in their place then."""
FITTED = 0.5
"""Of the progress of an evaluation; the rest is listing."""
UNSCORED = "as the sources bring them"


@dataclass(frozen=True, eq=False)
class BesideRun:
    """A run, its test part, and what shelves are evaluated on beside it. files: figures per user, by contender.
    training_rows: the rows that models may see, without those of the test part."""

    context: JobContext
    run: RunRecord
    files: dict[str, str]
    version: VersionFiles
    stage: SplitStage
    tables: SideTables
    training_rows: InteractionRows

    @cached_property
    def past(self) -> PastRows:
        """Return the histories of the training rows."""
        return PastRows.of(self.training_rows)

    def untrained(self, prepare: dict[str, Any], train: InteractionMatrix) -> UntrainedLookup:
        """Return what the training rows hold beyond a matrix: a served shelf folds these in too."""
        preparation = preparation_of(PrepareSpec.model_validate(prepare))
        rows = self.training_rows.with_frame(self.training_rows.frame.drop("measure"))
        return UntrainedLookup(lambda: untrained_cells(rows, preparation, train))


def evaluated(beside: BesideRun, parts: ShelfParts, users: int, low: float, high: float) -> ShelfEvaluation:
    """Fit what is not fitted yet, list, compare. low, high: the stretch of the job's progress."""
    context, middle = beside.context, low + (high - low) * FITTED
    library = ModelCache(context.engine, context.artefacts)
    fitted, members = fitted_models(context, library, beside.stage, beside.tables, parts, low, middle)
    fitted = {
        name: replace(each, untrained=beside.untrained(parts.models[name].prepare, each.train))
        for name, each in fitted.items()
    }
    items, people = library.items_of_version(beside.version.id), library.users_of_version(beside.version.id)
    lookups = TrainingLookups(fitted, items, people, beside.past, parts.others)
    paths = {label: context.artefacts.local_path(digest) for label, digest in beside.files.items()}
    work = Evaluation(context, beside.run, paths, parts, beside.stage, beside.tables, lookups, members, middle, high)
    return work.report(users)


def training_rows_of(rows: InteractionRows, spec: ContestSpec) -> InteractionRows:
    """Return the rows that models of a run may see: those its preparation selects, without the test part."""
    kept, _ = keep_rows(rows, preparation_of(spec.prepare))
    return split(kept, split_of(spec.split, spec.seed)).train_and_validation()


@dataclass(frozen=True, eq=False)
class Evaluation:
    """A shelf that can answer, the test part it answers for, and the run it is compared with. low, high: its stretch of
    the job's progress."""

    context: JobContext
    run: RunRecord
    files: dict[str, Path]
    parts: ShelfParts
    stage: SplitStage
    tables: SideTables
    lookups: TrainingLookups
    members: list[FittedMember]
    low: float
    high: float

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
        width = (self.high - self.low) / len(names)
        for place, name in enumerate(names):
            start = self.low + width * place
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
