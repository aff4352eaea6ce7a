"""The job behind `data split`: prepare and split as declared, report, keep nothing else."""

from __future__ import annotations

from typing import Any

from gleaner.jobs.datasets.divide import divide, read_rows
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets, jobs
from gleaner.wire.contests.runs import DivideReport, DivideRequest


def run(context: JobContext) -> dict[str, Any]:
    """Answers the report."""
    asked = DivideRequest.model_validate(context.claim.payload)
    with context.engine.begin() as connection:
        files = datasets.files(connection, context.claim.subject)
    context.require_going(0.02, "reading interactions")
    rows = read_rows(context.artefacts.local_path(files.interactions_file), files.scale)

    def tell(done: float, message: str) -> None:
        context.require_going(0.2 + 0.8 * done, message)

    made = divide(rows, asked.prepare, asked.split, asked.seed, tell)
    matrix = (made.whole or made.stages[-1].prepared).matrix
    report = DivideReport(
        version=files.name,
        split=asked.split,
        steps=made.step_reports(),
        parts=made.reports,
        left_out=made.left_out,
        users=matrix.shape[0],
        items=matrix.shape[1],
        cells=matrix.n_cells,
    )
    result = report.model_dump(mode="json")
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        text = f"{files.name}: {len(made.reports)} parts"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result
