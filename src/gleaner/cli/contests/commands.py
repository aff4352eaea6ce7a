"""gleaner contest"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import (
    ago,
    all_pages,
    console,
    emit,
    follow_job,
    hand_over,
    out_option,
    require_new,
    table,
    version_option,
    with_client,
)
from gleaner.cli.contests.choose import choose, release
from gleaner.cli.contests.report import report

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.contests.contest import FileRequest
    from gleaner.wire.contests.runs import RunSummary
    from gleaner.wire.contests.tuning import Tuning

YAML_FILES = (".yaml", ".yml")
NAMES_SHELVES = "shelves:"
FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group(name="contest")
def command() -> None:
    """Compare models."""


def read_file(path: Path) -> str:
    """A file's text. Raises BadParameter when it is not UTF-8."""
    try:
        return path.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise click.BadParameter(f"{path} is not UTF-8 text", param_hint="FILE") from error


@command.command()
@click.argument("data", metavar="DATA")
@out_option
@with_client
def new(client: Client, data: str, out: Path | None, as_json: bool) -> None:
    """Make a commented contest file fitted to a dataset. DATA is seeds@3, or seeds for the newest version.

    \b
    Example:
      gleaner contest new seeds --out seeds.yaml
    """
    from gleaner.client import contest_calls, data_calls

    require_new(out)
    name, number = version_option(data, "DATA")
    version = number or client.send(data_calls.dataset(name)).versions[0].number
    hand_over(client.send(contest_calls.draft_contest(name, version)), out, "contest", as_json=as_json)


def contest_file(path: Path) -> FileRequest:
    """A contest file with the shelf files beside it that it names. Raises BadParameter for one that is not UTF-8."""
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    from gleaner.wire.contests.contest import FileRequest

    text, files = read_file(path), dict[str, str]()
    try:
        tree = YAML(typ="safe").load(text) if NAMES_SHELVES in text else None
    except YAMLError:
        # the service says what is wrong, and where
        tree = None
    named = tree.get("shelves") if isinstance(tree, dict) else None
    for name in named if isinstance(named, list) else []:
        # beside it and nowhere else: whoever wrote the file must not have others of this machine sent along
        if isinstance(name, str) and name.endswith(YAML_FILES) and Path(name).name == name:
            beside = path.parent / name
            files |= {name: read_file(beside)} if beside.is_file() and not beside.is_symlink() else {}
    return FileRequest(file=text, name=path.name, files=files)


@command.command()
@click.argument("file", type=FILE)
@with_client
def check(client: Client, file: Path, as_json: bool) -> None:
    """Look at a contest file without running it: every mistake with its line, or what it will take.

    \b
    Example:
      gleaner contest check first-look.yaml
    """
    from gleaner.cli.contests.leaderboard import show_check
    from gleaner.client import contest_calls

    outcome = client.send(contest_calls.check_contest(contest_file(file)))
    emit(outcome, as_json, lambda: show_check(file.name, outcome))
    if outcome.problems:
        click.get_current_context().exit(1)


@command.command()
@click.argument("file", type=FILE)
@with_client
def run(client: Client, file: Path, as_json: bool) -> None:
    """Run a contest file, show progress, print the leaderboard.

    \b
    Example:
      gleaner contest run first-look.yaml
    """
    from gleaner.cli.contests.leaderboard import show_run
    from gleaner.client import contest_calls

    queued = client.send(contest_calls.run_contest(contest_file(file)))
    follow_job(client, queued.job, quiet=as_json)
    ended = client.send(contest_calls.run(queued.name))
    evaluations = client.send(contest_calls.run_shelves(queued.name)) if ended.spec.shelves else []
    emit(ended, as_json, lambda: show_run(ended, evaluations))


@command.command()
@click.argument("run_name", metavar="RUN")
@click.option("--by", help="By segment: history, popularity, time, seen, seen_items, user:COLUMN or item:COLUMN.")
@click.option("--metric", help="With --by: another metric than the deciding one.")
@click.option("--bins", type=click.IntRange(2, 20), help="With --by: how many ranges of numbers and times.  [4]")
@click.option("--values", is_flag=True, help="Predicted values against actual ones, by bin.")
@click.option("--tuning", is_flag=True, help="What was tried for each tuned contender.")
@click.option("--contender", help="With --tuning: every attempt of this one.")
@click.option("--curves", is_flag=True, help="Learning curves, by amount of data and by iteration.")
@click.option("--shelves", is_flag=True, help="The shelves that it names, stage by stage.")
@with_client
def show(
    client: Client,
    run_name: str,
    by: str | None,
    metric: str | None,
    bins: int | None,
    values: bool,
    tuning: bool,
    contender: str | None,
    curves: bool,
    shelves: bool,
    as_json: bool,
) -> None:
    """Show a run's leaderboard, or another view of it. RUN is spring@2, or spring for the newest.

    \b
    Example:
      gleaner contest show first-look
      gleaner contest show first-look --by history
      gleaner contest show six-models --tuning --contender als
    """
    from gleaner.cli.contests.leaderboard import show_run, show_segments, show_values
    from gleaner.cli.contests.tuning import show_curves, show_tuning, show_tunings
    from gleaner.cli.shelves.evaluation import show_evaluations
    from gleaner.client import contest_calls

    if sum([by is not None, values, tuning, curves, shelves]) > 1:
        raise click.UsageError("--by, --values, --tuning, --curves and --shelves are views of their own: name one")
    if by is None and (metric or bins):
        raise click.UsageError("--metric and --bins go with --by")
    if contender and not tuning:
        raise click.UsageError("--contender goes with --tuning")
    if by is not None:
        divided = client.send(contest_calls.segments(run_name, by, metric, bins=bins))
        emit(divided, as_json, lambda: show_segments(run_name, divided))
    elif values:
        predicted = client.send(contest_calls.run_values(run_name))
        emit(predicted, as_json, lambda: show_values(run_name, predicted))
    elif tuning and contender:
        one = _of_contender(client.send(contest_calls.tuning(run_name)), contender)
        emit(one, as_json, lambda: show_tuning(run_name, one))
    elif tuning:
        every = client.send(contest_calls.tuning(run_name))
        emit(every, as_json, lambda: show_tunings(run_name, every))
    elif shelves:
        evaluated = client.send(contest_calls.run_shelves(run_name))
        emit(evaluated, as_json, lambda: show_evaluations(evaluated))
    elif curves:
        learned = client.send(contest_calls.curves(run_name))
        emit(learned, as_json, lambda: show_curves(run_name, learned))
    else:
        run = client.send(contest_calls.run(run_name))
        evaluations = client.send(contest_calls.run_shelves(run.name)) if run.spec.shelves else []
        emit(run, as_json, lambda: show_run(run, evaluations))


def _of_contender(tunings: list[Tuning], contender: str) -> Tuning:
    for each in tunings:
        if each.contender == contender:
            return each
    tuned = ", ".join(each.contender for each in tunings) or "none"
    raise click.BadParameter(f"{contender} is not a tuned contender; tuned are: {tuned}", param_hint="--contender")


@command.command()
@click.argument("run_name", metavar="RUN")
@click.option("--metric", help="Another metric than the deciding one.")
@with_client
def compare(client: Client, run_name: str, metric: str | None, as_json: bool) -> None:
    """Compare every pair of a run's contenders, user by user, and say which differences are real.

    \b
    Example:
      gleaner contest compare first-look --metric recall@20
    """
    from gleaner.cli.contests.leaderboard import show_comparison
    from gleaner.client import contest_calls

    comparison = client.send(contest_calls.comparison(run_name, metric))
    emit(comparison, as_json, lambda: show_comparison(run_name, comparison))


@command.command(name="list")
@click.option("-n", "limit", default=20, show_default=True, type=click.IntRange(1), help="How many runs.")
@with_client
def list_(client: Client, as_json: bool, limit: int) -> None:
    """List runs, newest first.

    \b
    Example:
      gleaner contest list
    """
    from gleaner.client import contest_calls

    runs, more = all_pages(client, contest_calls.list_runs, limit)
    emit(runs, as_json, lambda: _show_list(runs, more))


def _show_list(summaries: list[RunSummary], more: bool) -> None:
    out = console()
    if not summaries:
        out.print("no runs yet; `gleaner contest run FILE.yaml` makes one")
        return
    rows = table("run", "data", "state", "contenders", "decided by", "winner", "begun", right=("contenders",))
    for each in summaries:
        rows.add_row(
            each.name,
            each.data,
            each.state,
            str(each.contenders),
            each.decide_by,
            each.winner or "",
            ago(each.created_at),
        )
    out.print(rows)
    if more:
        out.print("there are more; -n shows them")


command.add_command(choose)
command.add_command(release)
command.add_command(report)
