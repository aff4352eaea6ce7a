"""gleaner backup"""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import emit, json_option

if TYPE_CHECKING:
    from gleaner.launch.backup import Manifest
    from gleaner.settings import Settings

HOME = click.option(
    "--home", type=click.Path(file_okay=False, path_type=Path), help="State folder. [GLEANER_HOME, .state]"
)


@click.command(name="backup")
@click.argument("folder", type=click.Path(path_type=Path))
@HOME
@json_option
def command(folder: Path, home: Path | None, as_json: bool) -> None:
    """Copy records and artefacts into FOLDER, which is made. Gleaner may run meanwhile.

    Works on the state folder and its database (or GLEANER_DATABASE_URL and GLEANER_ARTEFACTS), not through the API.

    \b
    Example:
      gleaner backup /srv/backups/2026-05-01 --home .state
    """
    from gleaner.launch import backup

    done = run(lambda settings, report_progress: backup.back_up(settings, folder, report_progress), home)
    emit(vars(done), as_json, lambda: click.echo(f"{summary(done)} are in {folder}"))


def run(work: Callable[[Settings, Callable[[str], None]], Manifest], home: Path | None) -> Manifest:
    """Run it, printing each step on standard error. Raises ClickException with what went wrong."""
    from gleaner.core.errors import GleanerError
    from gleaner.launch.postgres import PostgresError
    from gleaner.settings import Settings

    settings = Settings() if home is None else Settings(home=home)
    try:
        return work(settings, _show_step)
    except (GleanerError, PostgresError) as error:
        raise click.ClickException(str(error)) from error


def _show_step(step: str) -> None:
    """Print each step over the one before, where a person is watching."""
    if sys.stderr.isatty():
        click.echo(f"\r\033[K  {step}", nl=False, err=True)


def summary(done: Manifest) -> str:
    """What a backup holds, in words."""
    size = sum(done.artefacts.values()) / 1e6
    return f"records (schema {done.schema}) and {len(done.artefacts):,} artefacts, {size:,.1f} MB,"
