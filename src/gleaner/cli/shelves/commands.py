"""gleaner shelf"""

from __future__ import annotations

import re
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, all_pages, console, emit, named_value, table, with_client
from gleaner.cli.contests.commands import FILE, read_file
from gleaner.cli.lists.places import show_beside, show_places
from gleaner.cli.shelves.evaluate import evaluate
from gleaner.cli.shelves.refresh import refresh, refreshes
from gleaner.cli.shelves.versions import check, history, new, rollback

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.shelves.changes import ModelChange
    from gleaner.wire.shelves.shelf import RecommendationAnswer, ShelfSummary, ShelfVersion


HEADER = re.compile(r"# [A-Za-z0-9._-]+@(\d{1,9}), published .*\n")
"""First line that `shelf show` writes above a file."""


@click.group(name="shelf")
def command() -> None:
    """Publish and try what is served."""


@command.command()
@click.argument("file", type=FILE)
@click.option(
    "--update-models",
    is_flag=True,
    help="Confirm that models change. A name without a number then means the newest model fitted on all rows.",
)
@click.option(
    "--based-on",
    type=click.IntRange(0, 2**31 - 1),
    metavar="VERSION",
    help="Refuse to publish unless this version is served; 0: unless there is no such shelf.  "
    "[the version that `shelf show` wrote in the first line of the file]",
)
@click.option("--overwrite", is_flag=True, help="Publish whatever version is served.")
@with_client
def publish(
    client: Client, file: Path, update_models: bool, based_on: int | None, overwrite: bool, as_json: bool
) -> None:
    """Publish a shelf file as the next version. It is tried before it is served.

    Models that the file names without a number stay the ones that are served.

    \b
    Examples:
      gleaner shelf publish for-growers.yaml
      gleaner shelf publish for-growers.yaml --update-models
    """
    from gleaner.client import shelf_calls
    from gleaner.wire.shelves.publishing import PublishRequest

    if overwrite and based_on is not None:
        raise click.UsageError("--overwrite publishes whatever is served, and --based-on does not: give one of the two")
    text = read_file(file)
    if based_on is None and not overwrite:
        based_on = version_in_header(text)
    request = PublishRequest(file=text, name=file.name, based_on=based_on, update_models=update_models)
    changes = client.send(shelf_calls.check_shelf(request)).changes if update_models else []
    version = client.send(shelf_calls.publish_shelf(request))
    emit(version, as_json, lambda: _show_published(version, changes))


def version_in_header(text: str) -> int | None:
    """Return the version that `shelf show` wrote in the first line of a file, or None."""
    header = HEADER.match(text)
    return None if header is None else int(header[1])


def _show_published(version: ShelfVersion, changes: list[ModelChange]) -> None:
    out = console()
    for change in changes:
        out.print(f"[yellow]model changed[/] {change.text}", soft_wrap=True, highlight=False)
    out.print(f"{version.name} is served now, by {', '.join(version.spec.models())}", soft_wrap=True)
    if version.training_only:
        names = ", ".join(version.training_only)
        out.print(
            f"[yellow]fitted on the training part only[/]: {names}; `gleaner contest release` fits on all rows",
            soft_wrap=True,
        )
    out.print(f"try `gleaner shelf try {version.shelf}`")


@command.command(name="list")
@click.option("-n", "limit", default=50, show_default=True, type=click.IntRange(1), help="How many shelves.")
@with_client
def list_(client: Client, as_json: bool, limit: int) -> None:
    """List shelves and the version each serves.

    \b
    Example:
      gleaner shelf list
    """
    from gleaner.client import shelf_calls

    summaries, more = all_pages(client, shelf_calls.list_shelves, limit)
    emit(summaries, as_json, lambda: _show_list(summaries, more))


def _show_list(summaries: list[ShelfSummary], more: bool) -> None:
    out = console()
    if not summaries:
        out.print("no shelves yet; `gleaner shelf publish FILE.yaml` makes one")
        return
    rows = table("serving", "title", "versions", "data", "published", right=("versions",))
    for each in summaries:
        rows.add_row(each.serving, each.title, str(each.versions), each.data, ago(each.published_at))
    out.print(rows)
    if more:
        out.print("there are more; -n shows them")


@command.command()
@click.argument("shelf")
@with_client
def show(client: Client, shelf: str, as_json: bool) -> None:
    """Show the file of the version being served, or of one such as for-growers@1.

    \b
    Example:
      gleaner shelf show for-growers
    """
    from gleaner.client import shelf_calls

    version = client.send(shelf_calls.shelf(shelf))
    emit(version, as_json, lambda: _show_version(version))


def _show_version(version: ShelfVersion) -> None:
    models = ", ".join(version.spec.models())
    click.echo(f"# {version.name}, published {ago(version.published_at)}; models: {models}")
    click.echo(HEADER.sub("", version.file).rstrip())


@command.command(name="try")
@click.argument("shelf")
@click.option("--user", help="A user's id; left out: someone anonymous.")
@click.option("--recent", multiple=True, metavar="ID", help="An item they just touched; may be repeated.")
@click.option("--value", "answers", multiple=True, metavar="ID=VALUE", help="What a recent item measures; repeat.")
@click.option("-n", "n", default=10, show_default=True, type=int, help="How many items, 1 to 1000.")
@click.option("--show", multiple=True, metavar="COLUMN", help="An item column, instead of the shelf's; repeat.")
@click.option("--context", "given", multiple=True, metavar="NAME=VALUE", help="What :context.NAME is; repeat.")
@click.option("--where", help="One more condition, in the shelf's language.")
@click.option("--why", is_flag=True, help="Say of every item why it stands there.")
@click.option("--beside", metavar="SHELF", help="Another shelf, or a version such as for-growers@1, beside it.")
@with_client
def try_(
    client: Client,
    shelf: str,
    user: str | None,
    recent: tuple[str, ...],
    answers: tuple[str, ...],
    n: int,
    show: tuple[str, ...],
    given: tuple[str, ...],
    where: str | None,
    why: bool,
    beside: str | None,
    as_json: bool,
) -> None:
    """Ask a shelf for a list and see how it came about.

    \b
    Examples:
      gleaner shelf try for-growers --user g-0417
      gleaner shelf try for-growers --user g-0417 -n 3 --why
      gleaner shelf try for-growers --recent v-0007 --recent v-0090 --value v-0090=3 --show family
      gleaner shelf try for-growers --user g-0417 --beside for-growers@1
      gleaner shelf try for-growers --user g-0417 --where "stock > 0 AND zone_from <= :user.zone"
    """
    from gleaner.client import shelf_calls

    context = dict(named_value(text, "--context") for text in given)
    values = dict(_value(text) for text in answers)
    shown = list(show) or None
    ask = partial(
        shelf_calls.recommend,
        user=user,
        recent=list(recent),
        values=values,
        n=n,
        context=context,
        where=where,
        show=shown,
        explain=True,
        record=False,
    )
    answer = client.send(ask(shelf))
    if beside is not None:
        other = client.send(ask(beside))
        emit([answer, other], as_json, lambda: show_beside(answer, other))
        return
    emit(answer, as_json, lambda: _show_answer(answer, why=why))


def _value(text: str) -> tuple[str, float]:
    """ID=VALUE. The last sign counts: an id may have one too."""
    item, _, value = text.rpartition("=")
    try:
        return item, float(value)
    except ValueError:
        raise click.UsageError(f"--value takes ID=VALUE with a number, not {text!r}") from None


def _show_answer(answer: RecommendationAnswer, *, why: bool) -> None:
    out = console()
    who = answer.user or "someone anonymous"
    out.print(f"[bold]{answer.shelf}@{answer.version}[/] for {who}, by {answer.model}")
    if answer.folded_in:
        out.print(answer.folded_in, soft_wrap=True)
    if answer.fallback:
        out.print(f"[yellow]fallback[/] {answer.fallback}", soft_wrap=True)
    show_places(answer.list)
    for place in answer.list if why else ():
        out.print(f"{place.position:>3}. {place.item}: {place.reason}", soft_wrap=True)
    words = {"where": "by the condition"}
    left_out = ", ".join(f"{count:,} {words.get(reason, reason)}" for reason, count in answer.left_out.items() if count)
    if left_out:
        out.print(f"left out: {left_out}")
    if answer.note:
        out.print(answer.note)
    stages = ", ".join(f"{stage.stage} {stage.milliseconds:.1f} ms" for stage in answer.stages or [])
    out.print(f"[dim]{stages}; list id {answer.list_id}[/]", soft_wrap=True)


for _verb in (new, check, evaluate, history, rollback, refresh, refreshes):
    command.add_command(_verb)
