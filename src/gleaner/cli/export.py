"""gleaner export"""

from __future__ import annotations

from pathlib import Path
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
OUT = click.option(
    "--out", required=True, type=click.Path(dir_okay=False, path_type=Path),
    help="File to write: .parquet, .csv, .ndjson or .jsonl.",
)  # fmt: skip


@click.group(name="export")
def command() -> None:
    """Write files for other systems."""


@command.command(name="top-items")
@MODEL
@TOP
@click.option("--where", help="SQL condition over item columns.")
@KNOWN
@OUT
@with_client
def top_items(client: Client, out: Path, as_json: bool, **asked: Any) -> None:
    """The best items of every user, a row each.

    \b
    Example:
      gleaner export top-items --model first-look.als -n 10 --where "stock > 0" --out mailing.csv
    """
    _export(client, "top-items", out, asked, as_json=as_json)


@command.command(name="top-users")
@MODEL
@TOP
@click.option("--where", help="SQL condition over user columns.")
@KNOWN
@OUT
@with_client
def top_users(client: Client, out: Path, as_json: bool, **asked: Any) -> None:
    """The users who would like each item most: whom to tell about it.

    \b
    Example:
      gleaner export top-users --model first-look.als -n 50 --out audiences.parquet
    """
    _export(client, "top-users", out, asked, as_json=as_json)


@command.command()
@MODEL
@click.option("--item", "items", multiple=True, required=True, help="An item's id; repeat for more columns.")
@click.option("--where", help="SQL condition over user columns.")
@KNOWN
@OUT
@with_client
def affinity(client: Client, out: Path, as_json: bool, **asked: Any) -> None:
    """A row for every user with the scores of some items as columns, as a campaign tool takes them.

    \b
    Example:
      gleaner export affinity --model first-look.als --item v-0007 --item v-0010 --out campaign.csv
    """
    _export(client, "affinity", out, asked | {"items": list(asked["items"])}, as_json=as_json)


def _export(client: Client, what: str, out: Path, asked: dict[str, Any], *, as_json: bool) -> None:
    from gleaner.client import export_calls, job_calls
    from gleaner.wire.exports import ExportRequest

    if out.suffix not in FORMATS:
        raise click.UsageError(f"--out must end in {', '.join(FORMATS)}, and {out.name} does not")
    if out.exists():
        raise click.UsageError(f"{out} is there already; name another place")
    request = ExportRequest.model_validate(asked | {"what": what, "format": FORMATS[out.suffix]})
    job = follow_job(client, client.send(export_calls.export(request)).id, quiet=as_json)
    assert job.result is not None
    client.save(job_calls.job_file(job.id), out)
    told = {name: job.result[name] for name in ("model", "what", "rows", "bytes")} | {"out": str(out)}
    emit(told, as_json, lambda: click.echo(f"{told['rows']:,} rows of {what}, {told['bytes'] / 1e6:.1f} MB: {out}"))
