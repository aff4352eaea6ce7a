"""The job behind `lists evaluate`: lists made elsewhere against a test part, beside our own contenders."""

from __future__ import annotations

from typing import Any

from gleaner.core.contests.parts import SplitStage, divide
from gleaner.core.data.foreign_lists import ListOddities, arranged, ordered
from gleaner.core.errors import DataError, InputError
from gleaner.core.metrics.evaluation import RankPlan, figures_of
from gleaner.core.metrics.exposure import ContentVectors, ShownLists
from gleaner.core.metrics.ranking import require_cutoffs
from gleaner.jobs.contests.declarations import preparation_of, relevance_of, split_of
from gleaner.jobs.datasets.side_tables import side_tables
from gleaner.jobs.lists import list_findings
from gleaner.jobs.lists.beside import compared_beside, contender_figures, metrics_of_lists
from gleaner.jobs.lists.list_files import read_lists
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, datasets, jobs
from gleaner.store.files.interactions import read_rows
from gleaner.store.records.contests import RunRecord
from gleaner.wire.contests.rank import RankSpec
from gleaner.wire.contests.runs import Figure
from gleaner.wire.lists import ListScores, ScoreListsRequest


def run(context: JobContext) -> dict[str, Any]:
    """Answers the scores. The upload goes when it is done."""
    request = ScoreListsRequest.model_validate(context.claim.payload)
    path = context.settings.uploads / request.upload
    context.require_going(0.02, f"reading {request.file}")
    rows, kind = read_lists(path, request.columns)
    oddities = ListOddities()
    lists = ordered(rows, oddities)
    with context.engine.begin() as connection:
        beside, files = contests.files_of_run(connection, request.beside) if request.beside else (None, {})
        version = datasets.files(connection, beside.data if beside else request.data or "")
    stage, content, rank, seed = _test_part(context, request, beside, version)
    context.require_going(0.7, f"scoring {request.file}")
    require_cutoffs(rank.at, len(stage.train.items))
    known = stage.known
    users = stage.truth.user_rows
    arranged_lists = arranged(
        lists, known, stage.train.items, users, max(rank.at), oddities, drop_known=request.drop_known
    )
    if not oddities.users_scored:
        raise DataError(
            f"no user of {request.file} has a relevant item in the test part of {version.name}: "
            f"the file names users such as {', '.join(oddities.examples.get('users_not_counted', []))}"
        )
    given, left_out = metrics_of_lists(rank)
    plan = RankPlan(given, rank.at, seed)
    shown = ShownLists(arranged_lists, users, known, stage.train, content)
    figures = figures_of(shown, stage.truth, plan)
    paths = {label: context.artefacts.local_path(digest) for label, digest in files.items()}
    report = ListScores(
        label=request.label,
        data=version.name,
        beside=beside.name if beside else None,
        users=len(users),
        decide_by=rank.decide_by,
        figures=[Figure(metric=name, part="test", **vars(figure)) for name, figure in figures.means.items()],
        findings=list_findings.scored(oddities, kind, known_dropped=request.drop_known),
        left_out=left_out,
        contenders=[] if beside is None else contender_figures(beside, list(figures.means)),
        comparison=None
        if beside is None
        else compared_beside(request.label, known.users.take(users), figures.per_user, paths, beside),
    )
    result = report.model_dump(mode="json")
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        text = f"{request.file}: scored on {len(users):,} users of {version.name}"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    path.unlink(missing_ok=True)
    return result


def _test_part(
    context: JobContext, request: ScoreListsRequest, beside: RunRecord | None, version: datasets.VersionFiles
) -> tuple[SplitStage, ContentVectors, RankSpec, int]:
    """The test part as the run, or the request, divides it."""
    how: Any = beside.spec if beside else request
    if how.split.by == "folds":
        raise InputError("lists are scored on one test part, and folds make several", where="split")

    def report_progress(done: float, message: str) -> None:
        context.require_going(0.1 + 0.6 * done, message)

    rows = read_rows(context.artefacts.local_path(version.interactions_file), version.scale)
    rule = split_of(how.split, how.seed)
    stage = divide(rows, preparation_of(how.prepare), rule, report_progress, relevance_of(how.rank)).stage("test")
    if stage is None or not len(stage.truth.user_rows):
        raise DataError("no user has a relevant item in the test part that training could recommend", where="split")
    content = side_tables(context, version).content(stage.train.items, how.rank.content, how.rank.categories)
    return stage, content, how.rank, how.seed
