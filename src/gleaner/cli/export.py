"""gleaner export"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import emit, follow_job, with_client

if TYPE_CHECKING:
    from gleaner.client import Client

FORMATS = {".parquet": "parquet", ".csv": "csv", ".ndjson": "ndjson", ".jsonl": "ndjson"}
MODEL = click.option("--model", required=True, help="The model that scores.")
TOP = click.option(
    "-n", "n", default=10, show_default=True, type=click.IntRange(1, 1000), help="At most so many of each."
)
KNOWN = click.option("--include-known", is_flag=True, help="Keep what a user has already.")


def where_to(function: Callable[..., Any]) -> Callable[..., Any]:
    """--out, --to, or --database with --table and --mode."""
    for option in (
        click.option("--mode", type=click.Choice(["new", "append", "replace"]), default="new", show_default=True,
                     help="Of --table: make it, add rows, or put these in the place of its rows."),
        click.option("--table", metavar="NAME", help="Table to fill, with its schema if needed."),
        click.option("--database", metavar="URL", help="postgresql://... of --table, reached by the worker."),
        click.option("--exact", is_flag=True, help="CSV: leave cells that a spreadsheet would run as they are."),
        click.option("--to", metavar="URL", help="An fsspec URL, written by the worker."),
        click.option("--out", type=click.Path(dir_okay=False, path_type=Path),
                     help="File to write here: .parquet, .csv, .ndjson or .jsonl; so for --to."),
    ):  # fmt: skip
        function = option(function)
    return function


@click.group(name="export")
def command() -> None:
    """Write files for other systems."""


@command.command(name="top-items")
@MODEL
@TOP
@click.option("--where", help="SQL condition over item columns.")
@KNOWN
@where_to
@with_client
def top_items(client: Client, as_json: bool, **given: Any) -> None:
    """The best items of every user, a row each.

    \b
    Example:
      gleaner export top-items --model first-look.als -n 10 --where "stock > 0" --out mailing.csv
    """
    _export(client, "top-items", given, as_json=as_json)


@command.command(name="top-users")
@MODEL
@TOP
@click.option("--where", help="SQL condition over user columns.")
@KNOWN
@where_to
@with_client
def top_users(client: Client, as_json: bool, **given: Any) -> None:
    """The users who would like each item most: an audience for it.

    \b
    Example:
      gleaner export top-users --model first-look.als -n 50 --out audiences.parquet
    """
    _export(client, "top-users", given, as_json=as_json)


@command.command()
@MODEL
@click.option("--item", "items", multiple=True, required=True, help="An item's id; repeat for more columns.")
@click.option("--where", help="SQL condition over user columns.")
@KNOWN
@where_to
@with_client
def affinity(client: Client, as_json: bool, **given: Any) -> None:
    """A row for every user with the scores of some items as columns, as a campaign tool takes them.

    \b
    Example:
      gleaner export affinity --model first-look.als --item v-0007 --item v-0010 --out campaign.csv
    """
    _export(client, "affinity", given | {"items": list(given["items"])}, as_json=as_json)


@command.command()
@MODEL
@click.option(
    "--pairs",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    required=True,
    help="A table with a column `user` and a column `item`.",
)
@where_to
@with_client
def values(client: Client, pairs: Path, as_json: bool, **given: Any) -> None:
    """What a model predicts for a table of pairs, and where it cannot tell, why.

    \b
    Example:
      gleaner export values --model seeds.als_values --pairs pairs.csv --out predicted.csv
    """
    from gleaner.client import calls

    target = _target(given)
    sent = client.send(calls.upload(pairs))
    given["pairs"] = {"upload": sent.upload, "file": sent.file}
    _send(client, "values", given, *target, as_json=as_json)


@command.command()
@click.option("--shelf", required=True, help="The shelf, or a version of it.")
@TOP
@where_to
@with_client
def lists(client: Client, as_json: bool, **given: Any) -> None:
    """The list of every user as a shelf serves it: conditions, slots and fallback included, nobody left out unsaid.

    By what its models learned; events that came since are not in it.

    \b
    Example:
      gleaner export lists --shelf for-growers -n 10 --out everybody.parquet
    """
    _export(client, "lists", given, as_json=as_json)


def _export(client: Client, what: str, given: dict[str, Any], *, as_json: bool) -> None:
    _send(client, what, given, *_target(given), as_json=as_json)


def _target(given: dict[str, Any]) -> tuple[Path | None, dict[str, Any]]:
    """The local file, or where else it goes. Takes the options for it out of what was given."""
    out, to, table, database, mode = (given.pop(name) for name in ("out", "to", "table", "database", "mode"))
    if (table is None) != (database is None):
        raise click.UsageError("--table and --database go together")
    if sum(each is not None for each in (out, to, table)) != 1:
        raise click.UsageError("say where it goes: --out FILE, --to URL, or --database URL --table NAME")
    if table is not None:
        return None, {"table": {"url": database, "table": table, "mode": mode}}
    name = PurePosixPath(to) if out is None else out
    if name.suffix not in FORMATS:
        raise click.UsageError(f"{'--to' if out is None else '--out'} must end in {', '.join(FORMATS)}, and "
                               f"{name.name} does not")  # fmt: skip
    if out is not None and out.exists():
        raise click.UsageError(f"{out} is there already; name another place")
    return out, {"format": FORMATS[name.suffix]} | ({} if to is None else {"to": to})


def _send(
    client: Client, what: str, given: dict[str, Any], out: Path | None, target: dict[str, Any], *, as_json: bool
) -> None:
    from gleaner.client import export_calls, job_calls
    from gleaner.wire.exports import ExportRequest

    request = ExportRequest.model_validate(given | target | {"what": what})
    job = follow_job(client, client.send(export_calls.export(request)).id, quiet=as_json)
    assert job.result is not None
    left_out = job.result.get("left_out")
    if out is not None:
        client.save(job_calls.job_file(job.id), out)
        if left_out and left_out.get("file"):
            left_out["out"] = str(out.with_name(f"{out.stem}.left-out.csv"))
            client.save(job_calls.job_file(job.id, "left-out"), Path(left_out["out"]))
    place = str(out or job.result.get("to") or job.result["table"])
    outcome: dict[str, Any] = {
        name: job.result[name] for name in ("shelf", "model", "what", "rows", "bytes") if name in job.result
    }
    outcome["out" if out else "to" if "to" in job.result else "table"] = place
    outcome |= {name: job.result[name] for name in ("left_out", "shown_cells") if name in job.result}
    emit(outcome, as_json, lambda: _show(what, outcome, place))


def _show(what: str, outcome: dict[str, Any], place: str) -> None:
    size = f", {outcome['bytes'] / 1e6:.1f} MB" if "bytes" in outcome else ""
    click.echo(f"{outcome['rows']:,} rows of {what}{size}: {place}")
    if shown := outcome.get("shown_cells"):
        click.echo(f"{shown:,} cells begin like a formula and have an apostrophe before; --exact leaves them")
    left_out = outcome.get("left_out")
    if left_out and left_out["count"]:
        where = left_out.get("out") or left_out.get("to")
        listed = f": {where}" if where else ""
        click.echo(f"{left_out['count']:,} of {left_out['of']:,} {left_out['side']}s are left out{listed}")
        for reason, count in left_out["reasons"].items():
            click.echo(f"  {count:,}: {reason}")
