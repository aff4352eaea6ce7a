"""gleaner restore"""

from __future__ import annotations

from pathlib import Path

import click

from gleaner.cli.backup import HOME, run, summary
from gleaner.cli.common import emit, json_option


@click.command(name="restore")
@click.argument("folder", type=click.Path(exists=True, file_okay=False, path_type=Path))
@HOME
@json_option
def command(folder: Path, home: Path | None, as_json: bool) -> None:
    """Put the backup in FOLDER into an empty state folder. Every file is checked by its hash first.

    \b
    Example:
      gleaner restore /srv/backups/2026-05-01 --home ./state-again
    """
    from gleaner.launch import backup

    done = run(lambda settings, report_progress: backup.put_back(settings, folder, report_progress), home)
    emit(vars(done), as_json, lambda: click.echo(f"{summary(done)} are back; `gleaner up` serves them"))
