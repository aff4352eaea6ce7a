"""gleaner simulate"""

from __future__ import annotations

from pathlib import Path

import click

from gleaner.cli.common import console, emit, json_option


@click.command(name="simulate")
@click.option("--users", default=1500, show_default=True, help="How many growers.")
@click.option("--items", default=900, show_default=True, help="How many varieties.")
@click.option("--interactions", default=90_000, show_default=True, help="How many events, exactly.")
@click.option("--seed", default=7, show_default=True, help="The same seed makes the same world.")
@click.option("--out", required=True, type=click.Path(file_okay=False, path_type=Path), help="Folder to write to.")
@json_option
def command(users: int, items: int, interactions: int, seed: int, out: Path, as_json: bool) -> None:
    """Make a seed-exchange world: interactions.csv, varieties.csv, growers.csv and truth.safetensors.

    The truth holds the expected affinity of every grower for every variety, as two matrices to multiply: with it a
    benchmark can say how far a model is from the best possible ranking.

    \b
    Example:
      gleaner simulate --users 5000 --items 2000 --interactions 400000 --seed 3 --out ./world
    """
    from rich.progress import Progress

    from gleaner.core.errors import GleanerError
    from gleaner.demo.simulate import simulate
    from gleaner.demo.world import Sizes

    try:
        sizes = Sizes(users, items, interactions, seed)
    except GleanerError as error:
        raise click.UsageError(error.message) from error
    err = console(stderr=True)
    with Progress(console=err, disable=as_json or not err.is_terminal, transient=True) as bar:
        task = bar.add_task("drawing views", total=1.0)

        def report_progress(share: float) -> bool:
            bar.update(task, completed=share)
            return True

        written = simulate(sizes, out, report_progress)
    emit(written, as_json, lambda: _show(out, written))


def _show(out: Path, written: dict[str, int]) -> None:
    for name, rows in written.items():
        click.echo(f"{out / name}  {rows:,} rows")
