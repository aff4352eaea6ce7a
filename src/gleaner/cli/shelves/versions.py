"""gleaner shelf new, check, history, rollback"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, console, emit, hand_over, out_option, require_new, table, with_client
from gleaner.cli.contests.commands import FILE, read_file

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.shelves.shelf import ShelfCheck, ShelfDifference, ShelfHistory, ShelfVersion


@click.command()
@click.argument("model")
@out_option
@with_client
def new(client: Client, model: str, out: Path | None, as_json: bool) -> None:
    """Make a commented shelf file for a model.

    \b
    Example:
      gleaner shelf new first-look.als --out front-page.yaml
    """
    from gleaner.client import shelf_calls

    require_new(out)
    hand_over(client.send(shelf_calls.draft_shelf(model)), out, "shelf", as_json=as_json)


@click.command()
@click.argument("file", type=FILE)
@with_client
def check(client: Client, file: Path, as_json: bool) -> None:
    """Look at a shelf file without publishing it: every mistake with its line, or how many items each part of its
    condition leaves.

    \b
    Example:
      gleaner shelf check for-growers.yaml
    """
    from gleaner.client import shelf_calls
    from gleaner.wire.contests.contest import FileRequest

    outcome = client.send(shelf_calls.check_shelf(FileRequest(file=read_file(file), name=file.name)))
    emit(outcome, as_json, lambda: _show_check(file.name, outcome))
    if outcome.problems:
        click.get_current_context().exit(1)


def _show_check(name: str, check: ShelfCheck) -> None:
    out = console()
    for each in check.problems:
        out.print(f"{name}:{each.line or 1}: {each.field}: {each.message}", soft_wrap=True, markup=False)
    if check.parts:
        rows = table("condition", "leaves", "depends on", right=("leaves",))
        for part in check.parts:
            left = "–" if part.left is None else f"{part.left:,}"
            rows.add_row(part.text, left, ", ".join(part.depends_on) or "nothing")
        out.print(rows)
    if check.parts and check.left is not None:
        by = " by what depends on nothing" if any(part.left is None for part in check.parts) else ""
        out.print(f"{check.left:,} of {check.items:,} items are left{by}")
    if check.sampled is not None:
        of = check.sampled
        out.print(f"for {of.users} users drawn at random it leaves {of.least:,} to {of.most:,}, median {of.median:,}")
    if check.recall is not None:
        recall = check.recall
        sentence = (
            f"{recall.mean:.1%} of the exact top {recall.n} over {recall.users} users, {recall.least:.0%} at the least"
        )
        out.print(f"approximate: {sentence}")
    if check.next_refresh_at is not None:
        out.print(f"its schedule would refresh it next at {check.next_refresh_at:%Y-%m-%d %H:%M} UTC")
    if check.context:
        out.print("a request should bring " + ", ".join(f"{name} ({kind})" for name, kind in check.context.items()))
    for change in check.changes:
        out.print(f"[yellow]model changes[/] {change.text}", soft_wrap=True, highlight=False)
    if check.changes:
        out.print("publishing it must be confirmed: gleaner shelf publish FILE --update-models")
    for text in check.warnings:
        out.print(f"[yellow]warning[/] {text}", soft_wrap=True)
    if not check.problems:
        out.print(f"nothing wrong; it would list from {', '.join(check.models)}", soft_wrap=True)


@click.command()
@click.argument("shelf")
@click.option("--diff", nargs=2, type=int, metavar="A B", help="What changed from version A to version B.")
@with_client
def history(client: Client, shelf: str, diff: tuple[int, int] | None, as_json: bool) -> None:
    """Every version of a shelf and when each was served, or what changed between two.

    \b
    Examples:
      gleaner shelf history for-growers
      gleaner shelf history for-growers --diff 1 2
    """
    from gleaner.client import shelf_calls

    if diff is not None:
        changed = client.send(shelf_calls.shelf_difference(shelf, *diff))
        emit(changed, as_json, lambda: _show_difference(changed))
        return
    versions = client.send(shelf_calls.shelf_history(shelf))
    emit(versions, as_json, lambda: _show_history(versions))


def _show_history(history: ShelfHistory) -> None:
    out = console()
    rows = table("version", "published", "models", "served", whole=("version",))
    for each in history.versions:
        times = [serving for serving in history.servings if serving.number == each.number]
        served = ", ".join(f"{serving.how} {ago(serving.at)}" for serving in times[:3])
        here = " now" if each.number == history.serving else ""
        rows.add_row(each.name + here, ago(each.published_at), _models(each), served)
    out.print(rows)


def _models(version: ShelfVersion) -> str:
    return ", ".join(version.spec.models())


def _show_difference(changed: ShelfDifference) -> None:
    out = console()
    fields = ", ".join(changed.fields) or "nothing but how the file is written"
    out.print(f"from {changed.before} to {changed.after}: {fields}")
    colours = {"-": "red", "+": "green"}
    for line in changed.lines:
        out.print(line, style=colours.get(line[:1], "dim"), markup=False, highlight=False, soft_wrap=True)


@click.command()
@click.argument("shelf")
@click.option("--to", type=click.IntRange(1), help="Its number; the version served before unless given.")
@with_client
def rollback(client: Client, shelf: str, to: int | None, as_json: bool) -> None:
    """Serve an earlier version again. It is tried before it is served.

    \b
    Examples:
      gleaner shelf rollback for-growers
      gleaner shelf rollback for-growers --to 1
    """
    from gleaner.client import shelf_calls

    version = client.send(shelf_calls.roll_back(shelf, to))
    emit(version, as_json, lambda: console().print(f"{version.name} is served again"))
