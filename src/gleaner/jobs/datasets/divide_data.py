"""The job behind `data split`: prepare and split as declared, report, keep nothing else."""

from __future__ import annotations

from typing import Any

from gleaner.core.contests.parts import divide
from gleaner.jobs.contests.declarations import preparation_of, split_of
from gleaner.jobs.contests.messages import part_reports, step_reports
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets, jobs
from gleaner.store.files.interactions import read_rows
from gleaner.wire.contests.runs import DivideReport, DivideRequest


def run(context: JobContext) -> dict[str, Any]:
    """Answers the report."""
    request = DivideRequest.model_validate(context.claim.payload)
    with context.engine.begin() as connection:
        files = datasets.files(connection, context.claim.subject)
    context.require_going(0.02, "reading interactions")
    rows = read_rows(context.artefacts.local_path(files.interactions_file), files.scale)

    def report_progress(done: float, message: str) -> None:
        context.require_going(0.2 + 0.8 * done, message)

    parts = divide(rows, preparation_of(request.prepare), split_of(request.split, request.seed), report_progress)
    matrix = parts.final
    report = DivideReport(
        version=files.name,
        split=request.split,
        steps=step_reports(parts),
        parts=part_reports(parts),
        left_out=parts.left_out,
        users=matrix.shape[0],
        items=matrix.shape[1],
        cells=matrix.n_cells,
    )
    result = report.model_dump(mode="json")
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        text = f"{files.name}: {len(parts.facts)} parts"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result
