"""The job behind `shelf evaluate`: a shelf whose models are fitted on what the test part of a run leaves, listing for
the users of that part, stage by stage, beside the run's contenders."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from gleaner.core.contests.parts import SplitStage, divide
from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import DataError
from gleaner.core.metrics.ranking import require_cutoffs
from gleaner.core.models.base.registry import any_takes_context
from gleaner.jobs.contests.declarations import preparation_of, relevance_of, split_of
from gleaner.jobs.datasets.side_tables import side_tables
from gleaner.jobs.shelves.evaluation import BesideRun, evaluated, training_rows_of
from gleaner.jobs.shelves.shelf_parts import ShelfParts, require_known_users
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, datasets, jobs, shelves
from gleaner.store.files.interactions import read_rows
from gleaner.store.records.contests import RunRecord
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.shelves.evaluations import (
    EvaluateShelfRequest,
)
from gleaner.wire.shelves.shelf import ShelfSpec

DIVIDED, LISTED = 0.1, 0.98


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
    beside = BesideRun(context, run, files, version, stage, tables, training_rows_of(rows, run.spec))
    report = evaluated(beside, parts, request.users, DIVIDED, LISTED).model_dump(mode="json")
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        text = f"{parts.label}: evaluated on {report['users']:,} users of {run.data}, beside {run.name}"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=report, message=text)
    return report


def shelf_parts(connection: Connection, request: EvaluateShelfRequest, run: RunRecord) -> ShelfParts:
    """What a shelf names. Raises UnknownNameError, and InputError for models of other data or a run whose test part is
    not one of known users."""
    require_known_users(run.spec.split, f"{run.name}, which", "beside")
    if request.file is not None:
        spec = ShelfSpec.model_validate(_yaml(request.file.file))
    else:
        spec = shelves.get(connection, request.shelf or "").spec
    return ShelfParts.of(connection, spec, run)


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
