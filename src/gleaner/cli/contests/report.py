"""gleaner contest report"""

from __future__ import annotations

import zipfile
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, emit, with_client

if TYPE_CHECKING:
    from gleaner.client import Client

SUFFIXES = (".html", ".md")


@click.command()
@click.argument("run_name", metavar="RUN")
@click.option(
    "--out", required=True, type=click.Path(path_type=Path),
    help="FILE.html, one file; FILE.md, with its plots beside it; or a new folder for all of it.",
)  # fmt: skip
@with_client
def report(client: Client, run_name: str, out: Path, as_json: bool) -> None:
    """Write a run's report: which contender to ship, how sure that is, and what it rests on.

    A folder gets the page, Markdown, every plot as SVG and PNG and every table as CSV and Parquet.

    \b
    Example:
      gleaner contest report first-look --out first-look.html
      gleaner contest report first-look --out first-look-report
    """
    from gleaner.client import contest_calls

    if out.exists():
        raise click.BadParameter(f"{out} is there already; name another", param_hint="--out")
    if not out.parent.is_dir():
        raise click.BadParameter(f"there is no folder {out.parent}", param_hint="--out")
    if out.suffix and out.suffix not in SUFFIXES:
        raise click.BadParameter(f"{out.name} must end in .html or .md, or be a folder's name", param_hint="--out")
    if out.suffix == ".html":
        out.write_bytes(client.send(contest_calls.report(run_name)))
        written = [out]
    else:
        packed = zipfile.ZipFile(BytesIO(client.send(contest_calls.report(run_name, "zip"))))
        written = _taken_out(packed, out)
    emit([str(path) for path in written], as_json, lambda: _show(out, written))


def _taken_out(packed: zipfile.ZipFile, out: Path) -> list[Path]:
    """The files of a report: all of them in a new folder, or Markdown with its plots beside it."""
    written = []
    for name in packed.namelist():
        if out.suffix == ".md":
            if name != "report.md" and not name.endswith(".svg"):
                continue
            path = out if name == "report.md" else out.parent / name
        else:
            path = out / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(packed.read(name))
        written.append(path)
    return written


def _show(out: Path, written: list[Path]) -> None:
    size = sum(path.stat().st_size for path in written)
    console().print(f"{out} is written: {len(written):,} files, {size / 1e6:.1f} MB" if len(written) > 1
                    else f"{out} is written, {size / 1e6:.1f} MB", soft_wrap=True)  # fmt: skip
