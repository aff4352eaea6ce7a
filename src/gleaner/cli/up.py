"""gleaner up"""

from __future__ import annotations

import signal
import threading
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from gleaner.launch.supervisor import Supervisor

WATCH_S = 0.5


@click.command(name="up")
@click.option("--home", type=click.Path(file_okay=False, path_type=Path), help="State folder. [GLEANER_HOME, .state]")
@click.option("--host", help="Address to listen on. [GLEANER_HOST, 127.0.0.1]")
@click.option("--port", type=click.IntRange(1, 65535), help="Port to listen on. [GLEANER_PORT, 8642]")
@click.option("--serving", type=click.IntRange(1, 64), help="Serving processes. [GLEANER_SERVING, 1]")
@click.option("--database", help="URL of a PostgreSQL to use instead of our own. [GLEANER_DATABASE_URL]")
def command(**given: Any) -> None:
    """Start PostgreSQL, worker and web service, and keep them running until Ctrl-C.

    \b
    Example:
      gleaner up --home ./state --port 8642 --serving 2
    """
    running = start(given)
    click.echo(f"console and API: {running.url}   (Ctrl-C stops everything)")
    serve(running)


def start(given: dict[str, Any]) -> Supervisor:
    """Start everything, saying each step. Raises ClickException with what did not start."""
    from gleaner.launch.postgres import PostgresError
    from gleaner.launch.supervisor import Supervisor
    from gleaner.settings import Settings

    names = {"home": "home", "host": "host", "port": "port", "serving": "serving", "database": "database_url"}
    settings = Settings(**{names[name]: value for name, value in given.items() if value is not None})
    supervisor = Supervisor(settings)

    def stop_starting(number: int, frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, stop_starting)
    try:
        supervisor.start(say)
    except (RuntimeError, PostgresError) as error:
        supervisor.stop()
        raise click.ClickException(str(error)) from error
    except BaseException:
        supervisor.stop()
        raise
    return supervisor


def say(step: str, seconds: float) -> None:
    """One line for one step."""
    click.echo(f"  {step} ({seconds:.1f} s)", err=True)


def serve(supervisor: Supervisor) -> None:
    """Watch the processes until a signal comes, then stop them all."""
    ending = threading.Event()

    def end(number: int, frame: FrameType | None) -> None:
        ending.set()

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, end)
    try:
        while not ending.wait(WATCH_S):
            supervisor.watch()
    finally:
        click.echo("stopping ...", err=True)
        supervisor.stop()
