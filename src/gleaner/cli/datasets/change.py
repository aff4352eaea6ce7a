"""gleaner data compare, split, remove, forget"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, emit, follow_job, named_value, table, version_option, with_client
from gleaner.cli.datasets.show import newest

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.contests.runs import DivideReport
    from gleaner.wire.datasets import Comparison, RemovedVersion

FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.command()
@click.argument("before")
@click.argument("after")
@with_client
def compare(client: Client, before: str, after: str, as_json: bool) -> None:
    """Compare two versions of a dataset: counts, drift of popularity and of values.

    \b
    Example:
      gleaner data compare seeds@1 seeds@2
    """
    from gleaner.client import data_calls

    one, two = newest(client, before), newest(client, after)
    if one.dataset != two.dataset:
        raise click.UsageError(f"{one.name} and {two.name} are versions of different datasets.")
    comparison = client.send(data_calls.compare_versions(one.dataset, one.number, two.number))
    emit(comparison, as_json, lambda: _show_comparison(comparison))


def _show_comparison(comparison: Comparison) -> None:
    out = console()
    out.print(
        f"[bold]{comparison.before}[/] and [bold]{comparison.after}[/]"
        + (": the same content" if comparison.same_content else "")
    )
    counts = table(
        "", comparison.before, comparison.after, "change", right=(comparison.before, comparison.after, "change")
    )
    for name, (one, two) in comparison.counts.items():
        form = "{:.3%}" if name == "density" else "{:.3f}" if name == "gini" else "{:,.0f}"
        change = "" if name in ("density", "gini") else f"{two - one:+,.0f}"
        counts.add_row(name, form.format(one), form.format(two), change)
    out.print(counts)
    out.print(
        f"users: {comparison.users_new:,} new, {comparison.users_gone:,} gone; "
        f"items: {comparison.items_new:,} new, {comparison.items_gone:,} gone"
    )
    rank = (
        ""
        if comparison.rank_correlation is None
        else f"; rank correlation of the items both have {comparison.rank_correlation:.3f}"
    )
    out.print(
        f"drift of popularity {comparison.popularity_drift:.3f} (0 the same, 1 nothing shared){rank}", soft_wrap=True
    )
    if comparison.value_drift is not None and comparison.value_means:
        out.print(
            f"drift of values {comparison.value_drift:.3f}; "
            f"mean {comparison.value_means[0]:.3f} and {comparison.value_means[1]:.3f}"
        )
    for title, moved in (("kinds", comparison.kinds), ("items that moved most", comparison.movers[:5])):
        if moved:
            shown = table(title, comparison.before, comparison.after, right=(comparison.before, comparison.after))
            for each in moved:
                shown.add_row(each.name, f"{each.before:.3%}", f"{each.after:.3%}")
            out.print(shown)


@click.command(name="split")
@click.argument("version")
@click.argument("file", type=FILE)
@with_client
def split_command(client: Client, version: str, file: Path, as_json: bool) -> None:
    """Prepare and split VERSION as FILE declares, without training, and say what each step did.

    FILE is YAML with `prepare`, `split` and `seed`; a contest file will do.

    \b
    Example:
      gleaner data split seeds first-look.yaml
    """
    from gleaner.client import data_calls
    from gleaner.wire.contests.contest import FileRequest

    data_version = newest(client, version)
    body = FileRequest(file=file.read_text(encoding="utf-8"), name=file.name)
    job = client.send(data_calls.split_version(data_version.dataset, data_version.number, body))
    follow_job(client, job.id, quiet=as_json)
    report = client.send(data_calls.split_report(job.id))
    emit(report, as_json, lambda: show_division(report))


def show_division(report: DivideReport) -> None:
    """Steps, parts, leaks."""
    out = console()
    out.print(
        f"[bold]{report.version}[/] by {report.split.by}: "
        f"{report.users:,} users, {report.items:,} items, {report.cells:,} cells to train on"
    )
    steps = table("step", "rows in", "rows out", "what it did", right=("rows in", "rows out"))
    for step in report.steps:
        steps.add_row(step.name, f"{step.rows_in:,}", f"{step.rows_out:,}", step.note)
    out.print(steps)
    figures = ("rows", "users", "items", "counted", "unseen users", "unseen items")
    parts = table("part", *figures, right=figures, whole=("part",))
    for part in report.parts:
        counted = [
            f"{n:,}" if n is not None else "" for n in (part.users_counted, part.unseen_users, part.unseen_items)
        ]
        parts.add_row(part.label, f"{part.rows:,}", f"{part.users:,}", f"{part.items:,}", *counted)
    out.print(parts)
    for part in report.parts:
        if part.leak is not None:
            verdict = f"[yellow]{part.leak.verdict}[/]" if part.leak.leaks else part.leak.verdict
            out.print(f"leak check, {part.label}: {verdict}", soft_wrap=True)
    for why, rows in report.left_out.items():
        out.print(f"left out: {rows:,} rows {why}")
    held_out = [part for part in report.parts if part.users_counted is not None]
    if any(part.unseen_users or part.unseen_items for part in held_out):
        out.print("[dim]Users and items that training never saw cannot be recommended to, or be recommended; they are "
                  "left out of the figures, the same for every contender.[/]", soft_wrap=True)  # fmt: skip


@click.command()
@click.argument("version")
@click.option("--force", is_flag=True, help="Also when models were trained on it.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@with_client
def remove(client: Client, version: str, as_json: bool, force: bool, yes: bool) -> None:
    """Take the data of one VERSION away. Its number is not given again.

    \b
    Example:
      gleaner data remove seeds@2
    """
    from gleaner.client import data_calls

    name, number = version_option(version, "VERSION")
    if number is None:
        raise click.UsageError(f"Which version of {name}? Write {name}@1.")
    if not yes and not as_json:
        click.confirm(f"Remove {name}@{number} for good?", abort=True, err=True)
    removed = client.send(data_calls.remove_version(name, number, force=force))
    emit(removed, as_json, lambda: _show_removed(removed))


def _show_removed(removed: RemovedVersion) -> None:
    console().print(f"{removed.version} is removed")
    if removed.models:
        console().print(
            f"these models were trained on it, and keep working: {', '.join(removed.models)}", soft_wrap=True
        )


@click.command()
@click.argument("name")
@click.option("--user", required=True, help="Whose rows to remove.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@with_client
def forget(client: Client, name: str, user: str, as_json: bool, yes: bool) -> None:
    """Remove every row of a user from every version of dataset NAME, and say which models saw them.

    \b
    Example:
      gleaner data forget seeds --user g-0417
    """
    from gleaner.client import data_calls

    if not yes and not as_json:
        click.confirm(f"Remove everything {user} did from every version of {name}?", abort=True, err=True)
    job = client.send(data_calls.forget_user(name, user))
    ended = follow_job(client, job.id, quiet=as_json)
    assert ended.result is not None
    emit(ended.result, as_json, lambda: console().print(ended.message, soft_wrap=True))


@click.command(name="change")
@click.argument("name")
@click.argument("cells", metavar="COLUMN=VALUE...", nargs=-1, required=True)
@click.option("--item", help="Which item's.")
@click.option("--user", help="Or which user's.")
@with_client
def change(
    client: Client, name: str, cells: tuple[str, ...], item: str | None, user: str | None, as_json: bool
) -> None:
    """Change columns of one item or user of dataset NAME from now on: shelves see them at once.

    A later version that brings a table of its own takes their place.

    \b
    Example:
      gleaner data change seeds --item v-0007 stock=0 surplus=false
    """
    from gleaner.client import event_calls
    from gleaner.wire.events import Change

    if (item is None) == (user is None):
        raise click.UsageError("Name an --item or a --user, one of the two.")
    given = Change(id=item or user or "", columns=dict(named_value(cell, "COLUMN=VALUE") for cell in cells))
    call = event_calls.change_items(name, [given]) if item else event_calls.change_users(name, [given])
    taken = client.send(call)
    emit(taken, as_json, lambda: console().print(f"changed of {item or user}: {', '.join(given.columns)}"))
