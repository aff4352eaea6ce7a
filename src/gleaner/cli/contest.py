"""gleaner contest"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, all_pages, console, emit, follow_job, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.contests import RunSummary

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
@click.argument("file", type=FILE)
@with_client
def run(client: Client, file: Path, as_json: bool) -> None:
    """Run a contest file, show progress, print the leaderboard.

    \b
    Example:
      gleaner contest run first-look.yaml
    """
    from gleaner.cli.leaderboard import show_run
    from gleaner.client import contest_calls
    from gleaner.wire.contests import FileRequest

    queued = client.send(contest_calls.run_contest(FileRequest(file=read_file(file), name=file.name)))
    follow_job(client, queued.job, quiet=as_json)
    ended = client.send(contest_calls.run(queued.name))
    emit(ended, as_json, lambda: show_run(ended))


@command.command()
@click.argument("run_name", metavar="RUN")
@with_client
def show(client: Client, run_name: str, as_json: bool) -> None:
    """Show a run's leaderboard. RUN is spring@2, or spring for the newest.

    \b
    Example:
      gleaner contest show first-look
    """
    from gleaner.cli.leaderboard import show_run
    from gleaner.client import contest_calls

    found = client.send(contest_calls.run(run_name))
    emit(found, as_json, lambda: show_run(found))


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

    found, more = all_pages(client, contest_calls.list_runs, limit)
    emit(found, as_json, lambda: _show_list(found, more))


def _show_list(found: list[RunSummary], more: bool) -> None:
    out = console()
    if not found:
        out.print("no runs yet; `gleaner contest run FILE.yaml` makes one")
        return
    rows = table("run", "data", "state", "contenders", "decided by", "winner", "begun", right=("contenders",))
    for each in found:
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
