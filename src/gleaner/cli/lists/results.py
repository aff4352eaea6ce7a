"""gleaner lists list, gleaner lists show"""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, all_pages, console, emit, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.lists import ListWork


@click.command(name="list")
@click.option("--data", help="Only lists of this dataset or version.")
@click.option("-n", "limit", default=20, show_default=True, type=click.IntRange(1), help="How many.")
@with_client
def list_(client: Client, data: str | None, limit: int, as_json: bool) -> None:
    """List what was scored and analysed before, newest first.

    \b
    Example:
      gleaner lists list --data seeds@1
    """
    from gleaner.client import list_calls

    works, more = all_pages(client, partial(list_calls.list_work, data), limit)
    emit(works, as_json, lambda: _show_list(works, more))


def _show_list(works: list[ListWork], more: bool) -> None:
    out = console()
    if not works:
        out.print("no lists were scored or analysed yet; `gleaner lists analyse --help` shows how")
        return
    rows = table("job", "work", "lists", "data", "beside", "users", "when", right=("job", "users"))
    for each in works:
        beside = each.beside or ""
        rows.add_row(str(each.job), each.work, each.label, each.data, beside, f"{each.users:,}", ago(each.ended_at))
    out.print(rows)
    if more:
        out.print("there are more; -n shows them")


@click.command()
@click.argument("job", type=click.IntRange(1))
@with_client
def show(client: Client, job: int, as_json: bool) -> None:
    """Show again what came of scoring or analysing lists, by the number of its job.

    \b
    Example:
      gleaner lists show 12
    """
    from gleaner.cli.lists.analyse import show_analysis
    from gleaner.cli.lists.commands import show_scores
    from gleaner.client import job_calls, list_calls

    kind = client.send(job_calls.job(job)).kind
    if kind == "score-lists":
        scores = client.send(list_calls.list_scores(job))
        emit(scores, as_json, lambda: show_scores(scores))
    elif kind == "analyse-lists":
        analysis = client.send(list_calls.list_analysis(job))
        emit(analysis, as_json, lambda: show_analysis(analysis, None))
    else:
        text = f"job {job} ({kind}) neither scored nor analysed lists; `gleaner lists list` names those that did"
        raise click.BadParameter(text, param_hint="JOB")
