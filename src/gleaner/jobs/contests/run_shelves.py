"""Shelves that a contest names: evaluated once its contenders are done, beside them."""

from __future__ import annotations

from sqlalchemy import Connection

from gleaner.core.contests.parts import ContestParts
from gleaner.core.contests.side_tables import SideTables
from gleaner.core.data.rows import InteractionRows
from gleaner.core.preparation.recipe import Preparation
from gleaner.jobs.contests.declarations import preparation_of
from gleaner.jobs.shelves.evaluation import BesideRun, evaluated, training_rows_of
from gleaner.jobs.shelves.shelf_parts import ShelfParts
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, models
from gleaner.store.contests import RunPlan
from gleaner.store.datasets import VersionFiles
from gleaner.store.records.models import ModelRecord
from gleaner.wire.contests.contest import ContestSpec, PrepareSpec
from gleaner.wire.shelves.evaluations import ShelfEvaluation
from gleaner.wire.shelves.shelf import ShelfSpec

MOST_USERS = 5_000
"""Whose lists are made, of each shelf: each takes milliseconds, several times."""


def shelves_named(spec: ContestSpec) -> list[ShelfSpec]:
    """Their files: names were looked up when the run was asked for."""
    return [each.file for each in spec.shelves if each.file is not None]


def models_beyond(connection: Connection, spec: ContestSpec) -> list[ModelRecord]:
    """Models that the shelves name and that are no contenders. Raises UnknownNameError."""
    labels = {each.label for each in spec.contenders}
    names = {name for shelf in shelves_named(spec) for name in shelf.models()} - labels
    return [models.get(connection, name) for name in sorted(names)]


def own_preparations(beyond: list[ModelRecord], common: Preparation) -> dict[str, Preparation]:
    """Those of models that are no contenders, where they are not that of the contest."""
    prepared = {each.name: preparation_of(PrepareSpec.model_validate(each.prepare)) for each in beyond}
    return {name: own for name, own in prepared.items() if own != common}


def rows_for_shelves(rows: InteractionRows, spec: ContestSpec) -> InteractionRows | None:
    """Return the rows that the shelves of a contest may see, or None if it names no shelves."""
    return training_rows_of(rows, spec) if spec.shelves else None


def evaluate_shelves(
    context: JobContext,
    plan: RunPlan,
    version: VersionFiles,
    parts: ContestParts,
    tables: SideTables,
    training_rows: InteractionRows | None,
    start: float,
) -> list[ShelfEvaluation]:
    """Each on the test part. start: the share of the job's progress that is over."""
    named, stage = shelves_named(plan.spec), parts.stage("test")
    if training_rows is None or stage is None:
        return []
    with context.engine.begin() as connection:
        run, files = contests.files_of_run(connection, plan.name)
        all_parts = [ShelfParts.of(connection, spec, run) for spec in named]
    beside = BesideRun(context, run, files, version, stage, tables, training_rows)
    width = (1 - start) / len(named)
    edges = [start + width * place for place in range(len(named) + 1)]
    return [
        evaluated(beside, each, MOST_USERS, low, high)
        for each, low, high in zip(all_parts, edges, edges[1:], strict=False)
    ]
