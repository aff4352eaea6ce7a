"""gleaner lists"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import console, emit, follow_job, table, with_client
from gleaner.cli.lists.analyse import analyse
from gleaner.cli.lists.results import list_, show

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.lists import ListFindings, ListScores

FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group(name="lists")
def command() -> None:
    """Score lists made elsewhere, analyse lists, and look at both again."""


@command.command()
@click.argument("file", type=FILE)
@click.option("--beside", metavar="RUN", help="Score on the test part of this run, beside its contenders.")
@click.option("--data", help="Without --beside: the dataset version.")
@click.option("--contest", type=FILE, help="With --data: a contest file that says preparation, split and metrics.")
@click.option("--name", "label", help="What to call the lists.  [name of the file]")
@click.option("--user", "user_column", default="user", show_default=True, help="Column of the user.")
@click.option("--item", "item_column", default="item", show_default=True, help="Column of the item.")
@click.option("--place", help="Column of the place, lowest first.  [place, position or rank]")
@click.option("--score", help="Column of the score, highest first.  [score, where there is no place]")
@click.option("--drop-known", is_flag=True, help="Take out items the user has in training instead of counting misses.")
@with_client
def evaluate(
    client: Client,
    file: Path,
    beside: str | None,
    data: str | None,
    contest: Path | None,
    label: str | None,
    user_column: str,
    item_column: str,
    place: str | None,
    score: str | None,
    drop_known: bool,
    as_json: bool,
) -> None:
    """Score recommendation lists from CSV, Parquet or a six-column run file on a test part.

    \b
    Example:
      gleaner lists evaluate theirs.csv --beside first-look
      gleaner lists evaluate theirs.run --data seeds@1 --name theirs
    """
    from gleaner.client import data_calls, list_calls
    from gleaner.wire.lists import ListColumns, ScoreListsRequest

    if (beside is None) == (data is None):
        raise click.UsageError("name one of --beside RUN and --data NAME@VERSION")
    if contest is not None and beside is not None:
        raise click.UsageError("--contest goes with --data; a run has its own")
    divided = _divided(contest) if contest else {}
    columns = ListColumns(user=user_column, item=item_column, place=place, score=score)
    request = ScoreListsRequest(
        upload=client.send(data_calls.upload(file)).upload,
        file=file.name,
        label=label or _slug(file.stem),
        columns=columns,
        beside=beside,
        data=data,
        drop_known=drop_known,
        **divided,
    )
    job = follow_job(client, client.send(list_calls.score_lists(request)).id, quiet=as_json)
    scores = client.send(list_calls.list_scores(job.id))
    emit(scores, as_json, lambda: show_scores(scores))


def _slug(stem: str) -> str:
    import re

    return re.sub("[^a-z0-9_-]+", "-", stem.lower()).strip("-_") or "lists"


def _divided(path: Path) -> dict[str, Any]:
    """Preparation, split, metrics and seed of a contest file."""
    from pydantic import ValidationError
    from ruamel.yaml import YAML, YAMLError

    from gleaner.cli.contests.commands import read_file
    from gleaner.wire.contests.contest import ContestSpec

    try:
        tree = YAML(typ="safe").load(read_file(path))
        spec = ContestSpec.model_validate(tree)
    except (YAMLError, ValidationError) as error:
        text = f"{path} is no contest file; `gleaner contest check {path}` shows what is wrong"
        raise click.BadParameter(text, param_hint="--contest") from error
    return {"prepare": spec.prepare, "split": spec.split, "rank": spec.rank, "seed": spec.seed}


def show_scores(scores: ListScores) -> None:
    """The lists' figures beside those of the contenders, then what was odd about the file."""
    from gleaner.cli.contests.leaderboard import show_summary

    out = console()
    beside = f", beside {scores.beside}" if scores.beside else ""
    out.print(f"[bold]{scores.label}[/] on the test part of {scores.data}{beside}: {scores.users:,} users")
    labels = [scores.label, *[each.contender for each in scores.contenders]]
    rows = table("metric", *labels, right=tuple(labels), whole=("metric", *labels))
    theirs = {each.contender: {figure.metric: figure for figure in each.figures} for each in scores.contenders}
    for figure in scores.figures:
        span = "" if figure.low is None else f" [dim]{figure.low:.4f} to {figure.high:.4f}[/]"
        others = [f"{other.mean:.4f}" if (other := theirs[name].get(figure.metric)) else "" for name in labels[1:]]
        rows.add_row(figure.metric, f"{figure.mean:.4f}{span}", *others)
    out.print(rows)
    if scores.left_out:
        out.print(f"[dim]lists alone do not give: {', '.join(scores.left_out)}[/]")
    for line in finding_lines(scores.findings):
        out.print(line, soft_wrap=True)
    if scores.comparison is not None:
        show_summary(scores.comparison)


def finding_lines(findings: ListFindings) -> list[str]:
    """What the file holds, then what was odd about it, a line each."""
    from rich.markup import escape

    head = f"{findings.format}: {findings.rows:,} rows, lists of {findings.users:,} users; "
    head += f"{findings.users_scored:,} of them count"
    return [f"[dim]{escape(head)}[/]", *(f"[yellow]{escape(line)}[/]" for line in findings.said)]


for each in (analyse, list_, show):
    command.add_command(each)
