"""Run a contest: the engine over a version's rows, every contender kept as it comes, and what the whole comes to."""

from __future__ import annotations

from typing import Any

from gleaner.core.contests.contest import Contest, KnownContender
from gleaner.core.contests.engine import run_contest
from gleaner.core.contests.parts import ContestParts, divide
from gleaner.core.data.rows import InteractionRows
from gleaner.core.models.base.registry import any_takes_context
from gleaner.jobs.contests.declarations import plan_of, preparation_of, relevance_of, split_of
from gleaner.jobs.contests.listener import JobContestListener
from gleaner.jobs.contests.messages import comparison_message, part_reports, step_reports
from gleaner.jobs.contests.run_shelves import evaluate_shelves, models_beyond, own_preparations, rows_for_shelves
from gleaner.jobs.datasets.side_tables import side_tables
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, datasets, jobs
from gleaner.store.contests import RunPlan
from gleaner.store.files.interactions import read_rows
from gleaner.store.files.per_user import read_metric
from gleaner.store.records.models import ModelRecord

READ, PREPARED, COMPARED = 0.01, 0.05, 0.8
"""Of the progress: once the rows are read, once they are prepared and divided, and once contenders are compared where
shelves are to be evaluated."""


def run(context: JobContext) -> dict[str, Any]:
    """Run it. Contenders that an earlier attempt finished are not run again, nor are attempts of tuning."""
    with context.engine.begin() as connection:
        plan = contests.plan_of_job(connection, context.claim.id)
        files = datasets.files_by_id(connection, plan.version_id)
        beyond = models_beyond(connection, plan.spec)
    context.require_going(READ, "reading interactions")
    families = [*(each.family for each in plan.spec.contenders), *(each.family for each in beyond)]
    with_context = any_takes_context(families)
    path = context.artefacts.local_path(files.interactions_file)
    rows = read_rows(path, files.scale, with_context=with_context)
    parts, training_rows = _divided(context, plan, rows, beyond), rows_for_shelves(rows, plan.spec)
    del rows
    listener, tables = JobContestListener(context, plan, parts), side_tables(context, files)
    contest = Contest.of(plan_of(plan.spec), parts, tables, listener)
    contest.known |= _known(context, plan, contest.deciding_part)
    compared = COMPARED if plan.spec.shelves else 1.0
    outcome = run_contest(contest, PREPARED, compared, plan.expected_seconds)
    comparison = comparison_message(outcome.comparison)
    evaluations = evaluate_shelves(context, plan, files, parts, tables, training_rows, compared)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        contests.set_shelves(connection, plan.id, evaluations)
        contests.set_winner(connection, plan.id, outcome.winner, comparison, outcome.verdicts)
        text = f"{plan.name}: best on {plan.spec.rank.decide_by} is {outcome.winner}"
        result = {"run": plan.name, "winner": outcome.winner}
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def _divided(context: JobContext, plan: RunPlan, rows: InteractionRows, beyond: list[ModelRecord]) -> ContestParts:
    """Preparation and split, with their reports kept at once. beyond: further models that shelves name."""
    spec = plan.spec

    def report_progress(done: float, message: str) -> None:
        context.require_going(READ + (PREPARED - READ) * done, message)

    common = preparation_of(spec.prepare)
    own = {each.label: preparation_of(each.prepare) for each in spec.contenders if each.prepare is not None}
    own |= own_preparations(beyond, common)
    rule = split_of(spec.split, spec.seed)
    parts = divide(rows, common, rule, report_progress, relevance_of(spec.rank), own)
    steps = step_reports(parts)
    with context.engine.begin() as connection:
        contests.set_reports(connection, plan.id, steps, part_reports(parts))
    return parts


def _known(context: JobContext, plan: RunPlan, part: str) -> dict[str, KnownContender]:
    """Contenders that an earlier attempt finished: figures from their files, and from the record what nobody has per
    user."""
    metric = plan.spec.rank.decide_by
    with context.engine.begin() as connection:
        done = contests.finished_contenders(connection, plan.id)
        standings = contests.results(connection, plan.id, plan.spec.rank.names()) if done else []
    by_user = read_metric({label: context.artefacts.local_path(digest) for label, digest in done.items()}, metric)
    known = {}
    for each in standings:
        figure = each.figure(metric, part)
        known[each.contender] = KnownContender(
            each.family, dict(each.params), figure.mean if figure else None, by_user.get(each.contender)
        )
    return known
