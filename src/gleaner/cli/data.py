"""gleaner data"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import ago, all_pages, console, emit, follow_job, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.datasets import Dataset, DatasetVersion

FILE = click.Path(exists=True, dir_okay=False, path_type=Path)
ROLES = ("user", "item", "value", "kind", "time")
SPARKS = "▁▂▃▄▅▆▇█"


@click.group(name="data")
def command() -> None:
    """Bring interactions in and look at them."""


@command.command()
@click.argument("name")
@click.argument("file", type=FILE)
@click.option("--user", help="Column with the user's id.")
@click.option("--item", help="Column with the item's id.")
@click.option("--value", help="Column with a rating, quantity or duration.")
@click.option("--kind", help="Column with the kind of interaction.")
@click.option("--time", help="Column with the time: ISO 8601, or epoch seconds or milliseconds.")
@click.option("--items", type=FILE, help="CSV of items; its id column has the name given with --item.")
@click.option("--users", type=FILE, help="CSV of users; its id column has the name given with --user.")
@click.option("--sep", default=",", show_default=True, help="What separates cells.")
@click.option("--no-header", is_flag=True, help="The first line holds data; columns are called f0, f1, ...")
@click.option("--map", "mapping", type=FILE, help="YAML file with the roles: user: COL, item: COL, ...")
@with_client
def add(client: Client, name: str, file: Path, as_json: bool, **options: Any) -> None:
    """Import a CSV file as the next version of dataset NAME.

    Ids are kept to the letter ("007" stays "007"), an empty value is missing and never zero, and nothing is kept unless
    all of it can be read.

    \b
    Example:
      gleaner data add seeds interactions.csv --user grower --item variety \\
          --kind kind --time at --value value --items varieties.csv --users growers.csv
    """
    from gleaner.client import calls
    from gleaner.wire.datasets import ImportRequest

    roles = _roles(options)
    separator = "\t" if options["sep"] in ("\\t", "tab") else options["sep"]
    if len(separator) != 1:
        raise click.BadParameter("must be one character (or \\t)", param_hint="--sep")
    request = ImportRequest(
        interactions=_send(client, file, as_json),
        roles=roles,
        items=_send(client, options["items"], as_json) if options["items"] else None,
        users=_send(client, options["users"], as_json) if options["users"] else None,
        separator=separator,
        header=not options["no_header"],
    )
    job = client.send(calls.import_version(name, request))
    ended = follow_job(client, job.id, quiet=as_json)
    assert ended.result is not None
    version = _version(client, ended.result["version"])
    emit(version, as_json, lambda: _show(version))


def _roles(options: dict[str, Any]) -> Any:
    from pydantic import ValidationError

    from gleaner.wire.datasets import Roles

    given: dict[str, Any] = {}
    if options["mapping"]:
        from ruamel.yaml import YAML

        given = dict(YAML(typ="safe").load(options["mapping"]) or {})
    given |= {role: options[role] for role in ROLES if options[role]}
    for role in ("user", "item"):
        if role not in given:
            raise click.UsageError(f"Which column holds the {role}'s id? Give --{role} COL, or --map FILE.")
    try:
        return Roles.model_validate(given)
    except ValidationError as error:
        raise click.UsageError(
            "; ".join(each["msg"].removeprefix("Value error, ") for each in error.errors())
        ) from error


def _send(client: Client, file: Path, quiet: bool) -> Any:
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn

    from gleaner.client import calls
    from gleaner.wire.datasets import UploadedFile

    err = console(stderr=True)
    columns = (TextColumn("{task.description}"), BarColumn(complete_style="green"), DownloadColumn())
    with Progress(*columns, console=err, disable=quiet or not err.is_terminal, transient=True) as bar:
        task = bar.add_task(f"sending {file.name}", total=file.stat().st_size)
        sent = client.send(calls.upload(file, on_sent=lambda size: bar.update(task, completed=size)))
    return UploadedFile(upload=sent.upload, file=file.name)


@command.command(name="list")
@click.option("-n", "limit", default=50, show_default=True, type=click.IntRange(1), help="How many datasets.")
@with_client
def list_(client: Client, as_json: bool, limit: int) -> None:
    """List datasets and their newest versions.

    \b
    Example:
      gleaner data list
    """
    from gleaner.client import calls

    found, more = all_pages(client, calls.list_datasets, limit)
    emit(found, as_json, lambda: _show_list(found, more))


def _show_list(found: list[Dataset], more: bool) -> None:
    out = console()
    if not found:
        out.print("no datasets yet; `gleaner data add` brings one in")
        return
    rows = table("version", "rows", "users", "items", "imported", "content hash", right=("rows", "users", "items"))
    for dataset in found:
        for version in dataset.versions:
            counts = (f"{version.rows:,}", f"{version.users:,}", f"{version.items:,}")
            rows.add_row(version.name, *counts, ago(version.created_at), version.content_hash[:12])
    out.print(rows)
    if more:
        out.print("there are more; -n shows them")


@command.command()
@click.argument("version")
@with_client
def show(client: Client, version: str, as_json: bool) -> None:
    """Show one version: counts, activity, time span, what import found. VERSION is seeds@1, or seeds for the newest.

    \b
    Example:
      gleaner data show seeds@1
    """
    found = _version(client, version)
    emit(found, as_json, lambda: _show(found))


def _version(client: Client, reference: str) -> DatasetVersion:
    from gleaner.client import calls

    name, at, number = reference.partition("@")
    if at and not number.isdigit():
        raise click.BadParameter(f"{reference!r} is not a version such as seeds@1", param_hint="VERSION")
    if not at:
        number = str(client.send(calls.dataset(name)).versions[0].number)
    return client.send(calls.dataset_version(name, int(number)))


def _show(version: DatasetVersion) -> None:
    out = console()
    profile = version.profile
    out.print(f"[bold]{version.name}[/]  {profile.rows:,} rows, {profile.users:,} users, {profile.items:,} items")
    facts = table("", "", right=())
    facts.show_header = False
    facts.add_row("density", f"{profile.density:.3%} of all user-item cells")
    if profile.span and profile.span.first and profile.span.last:
        facts.add_row("time", f"{profile.span.first:%Y-%m-%d} to {profile.span.last:%Y-%m-%d} (UTC)")
    if profile.kinds:
        facts.add_row("kinds", ", ".join(f"{count.kind or '(none)'} {count.rows:,}" for count in profile.kinds))
    if profile.values and profile.values.n:
        values = profile.values
        facts.add_row(
            "values",
            f"{values.min:g} to {values.max:g}, mean {values.mean:.2f}; {values.missing:,} rows have none",
        )
    for side in ("user", "item"):
        spread = getattr(profile, f"rows_per_{side}")
        facts.add_row(
            f"rows per {side}",
            f"median {spread['median']:g}, 99 % below {spread['q99']:.0f}, most {spread['max']:g}",
        )
    tenth = next(point.rows for point in profile.long_tail if point.items >= 0.1)
    facts.add_row("long tail", f"the most popular tenth of items holds {tenth:.0%} of rows; Gini {profile.gini:.2f}")
    if profile.over_time and profile.over_time.points:
        facts.add_row(f"rows per {_period(profile.over_time.period)}", _spark(version))
    for name, columns in (("item columns", version.item_columns), ("user columns", version.user_columns)):
        if columns:
            facts.add_row(name, ", ".join(f"{c.name} ({c.type})" for c in columns if c.type != "id"))
    facts.add_row("content hash", version.content_hash[:16])
    out.print(facts)
    for note in version.notes:
        examples = f" (such as {', '.join(note.examples)})" if note.examples else ""
        out.print(
            f"[{'yellow' if note.level == 'warning' else 'dim'}]{note.level}:[/] {note.text}{examples}",
            soft_wrap=True,
        )


def _period(code: str) -> str:
    return {"1d": "day", "1w": "week", "1mo": "month", "1y": "year"}[code]


def _spark(version: DatasetVersion) -> str:
    """Rows over time as a line of blocks, at most 60 of them."""
    assert version.profile.over_time is not None
    totals: dict[str, int] = {}
    for point in version.profile.over_time.points:
        totals[point.at] = totals.get(point.at, 0) + point.rows
    counts = list(totals.values())
    step = -(-len(counts) // 60)
    sums = [sum(counts[lo : lo + step]) for lo in range(0, len(counts), step)]
    if len(counts) % step:
        sums.pop()
    most = max(sums, default=1)
    return "".join(SPARKS[min(7, round(7 * each / most))] for each in sums)
