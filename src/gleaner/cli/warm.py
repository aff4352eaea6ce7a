"""gleaner warm"""

from __future__ import annotations

import time

import click

from gleaner.cli.common import console, emit, json_option


@click.command(name="warm")
@json_option
def command(as_json: bool) -> None:
    """Compile every kernel ahead of its first use. Once a machine is enough; a second time takes seconds.

    \b
    Example:
      gleaner warm
    """
    from rich.progress import Progress

    from gleaner.core.warm import warm

    err, begun = console(stderr=True), time.perf_counter()
    with Progress(console=err, disable=as_json or not err.is_terminal, transient=True) as bar:
        task = bar.add_task("compiling", total=1.0)
        families = warm(lambda name, done: bar.update(task, completed=done, description=f"compiling: {name}"))
    seconds = round(time.perf_counter() - begun, 1)
    outcome = {"families": families, "seconds": seconds}
    emit(outcome, as_json, lambda: click.echo(f"kernels of {families} model families are compiled ({seconds} s)"))
