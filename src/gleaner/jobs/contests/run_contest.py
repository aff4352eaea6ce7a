"""Run a contest: prepare, split, tune, fit and score every contender, register the models, compare."""

from __future__ import annotations

from typing import Any

import numpy as np

from gleaner.core.errors import DataError
from gleaner.core.models.base.registry import build
from gleaner.core.tuning.space import settled
from gleaner.jobs.contests.contender import run_contender
from gleaner.jobs.contests.figures import compared, read_metric
from gleaner.jobs.contests.state import PREPARED, Contest, ordered, prepared
from gleaner.jobs.datasets.divide import read_rows
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, datasets, jobs
from gleaner.wire.contests.contest import ContenderSpec, ContestSpec
from gleaner.wire.contests.runs import ContestComparison


def run(context: JobContext) -> dict[str, Any]:
    """Run it. Contenders that an earlier attempt finished are not run again, nor are attempts of tuning."""
    with context.engine.begin() as connection:
        plan = contests.plan_of_job(connection, context.claim.id)
        files = datasets.files_by_id(connection, plan.version_id)
        done = contests.finished_contenders(connection, plan.id)
    context.require_going(0.01, "reading interactions")
    rows = read_rows(context.artefacts.local_path(files.interactions_file), files.scale)
    contest = prepared(context, plan, rows, files)
    del rows
    contenders = ordered(plan.spec)
    if contest.validation is None and any(each.tuned for each in contenders):
        raise DataError("tuning decides on the validation part, and this split has none", where="split")
    edges = _edges(plan.spec, contenders, contest.final.shape, contest.final.n_cells)
    for contender, start, stop in zip(contenders, edges, edges[1:], strict=False):
        if contender.label in done:
            context.log(f"{contender.label}: finished in an earlier attempt")
            _recall(contest, contender, done[contender.label])
            continue
        run_contender(contest, contender, start, stop)
    winner = max(contest.deciding, key=lambda label: contest.sign * contest.deciding[label])
    comparison = _compare(contest)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        contests.set_winner(connection, plan.id, winner, comparison)
        text = f"{plan.name}: best on {plan.spec.rank.decide_by} is {winner}"
        result = {"run": plan.name, "winner": winner}
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def _edges(spec: ContestSpec, contenders: list[ContenderSpec], shape: tuple[int, int], cells: int) -> list[float]:
    """Where each contender's stretch of the progress bar begins and ends."""
    efforts = []
    for contender in contenders:
        model = build(contender.family, settled(contender.family, contender.params))
        fits = 2 + (spec.tune_of(contender).attempts if contender.tuned and contender.ablates is None else 0)
        efforts.append(fits * (1e6 + model.cost(model.params(), shape, cells).operations))
    return [float(edge) for edge in PREPARED + (1 - PREPARED) * np.cumsum([0.0, *efforts]) / sum(efforts)]


def _recall(contest: Contest, contender: ContenderSpec, digest: str) -> None:
    """Take the figures of a contender that is finished from its file, and what has none per user from the record."""
    contest.files[contender.label] = contest.context.artefacts.local_path(digest)
    with contest.context.engine.begin() as connection:
        held = contests.results(connection, contest.plan.id, contest.spec.rank.names())
    standing = next(each for each in held if each.contender == contender.label)
    contest.params[contender.label] = dict(standing.params)
    contest.note_deciding(contender.label, standing.figures)


def _compare(contest: Contest) -> ContestComparison | None:
    """Every pair on the deciding metric, once all contenders are done."""
    decide_by = contest.spec.rank.decide_by
    lacking = [(each.label, each.ablates, each.lacks or "") for each in contest.spec.contenders if each.ablates]
    return compared(read_metric(contest.files, decide_by), decide_by, contest.spec.seed, contest.baseline, lacking)
