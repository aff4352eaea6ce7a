"""gleaner demo"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gleaner.cli.up import serve, start


@click.command(name="demo")
@click.option("--once", is_flag=True, help="Check every step, stop everything, exit 0 only if all went well.")
@click.option("--home", type=click.Path(file_okay=False, path_type=Path), help="State folder. [GLEANER_HOME, .state]")
@click.option("--port", type=click.IntRange(1, 65535), help="Port to listen on. [GLEANER_PORT, 8642]")
def command(once: bool, **given: Any) -> None:
    """Run the full example: load the demo data, compare models, publish a shelf, ask it, keep serving.

    \b
    Example:
      gleaner demo --once
    """
    from gleaner.demo.full import CheckError, Demo

    click.echo("starting", err=True)
    supervisor = start(given)
    try:
        Demo(supervisor.url).run()
    except CheckError as error:
        supervisor.stop()
        raise click.ClickException(f"the demo failed: {error}") from error
    except BaseException:
        supervisor.stop()
        raise
    if once:
        supervisor.stop()
        click.echo("every step was checked; everything is stopped")
        return
    serve(supervisor)
