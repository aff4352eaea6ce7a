"""`python -m bench`: run entries at one size, print a table, write JSON."""

from __future__ import annotations

import json
import platform
from dataclasses import asdict

import click
from rich.console import Console

from bench.entries import ENTRIES
from bench.measure import Result
from bench.worlds import FOLDER, SIZES
from gleaner.cli.common import table
from gleaner.core.parallel import default_threads


@click.command()
@click.option("--size", type=click.Choice(list(SIZES)), default="small", show_default=True, help="How large a world.")
@click.option("--only", type=click.Choice(list(ENTRIES)), multiple=True, help="Only these entries.")
def main(size: str, only: tuple[str, ...]) -> None:
    """Measure speed and memory on a simulated world; each figure stands beside a peer in the same run."""
    sizes = SIZES[size]
    shape = f"{sizes.users:,} users x {sizes.items:,} items, {sizes.interactions:,} rows"
    click.echo(f"{size}: {shape}, {default_threads()} threads")
    results = [ENTRIES[name](size) for name in only or ENTRIES]
    _show(results, with_bars=size == "large")
    path = FOLDER / f"{size}.json"
    machine = {"cores": default_threads(), "processor": platform.processor() or platform.machine()}
    body = {
        "size": size,
        "machine": machine,
        "results": [asdict(r) | {"ratio": r.ratio, "holds": r.holds} for r in results],
    }
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps(body, indent=2))
    click.echo(f"written to bench/results/{path.name}")


def _show(results: list[Result], *, with_bars: bool) -> None:
    bars = ("bar", "held") if with_bars else ()
    names = ("entry", "seconds", "peak MB", "peer", "peer s", "ratio", *bars, "note")
    rows = table(*names, right=("seconds", "peak MB", "peer s", "ratio"))
    for r in results:
        figures = (f"{r.seconds:.4g}", f"{r.peak_mb:.0f}", r.peer, f"{r.peer_seconds:.4g}", f"{r.ratio:.2f}")
        bar_cells = (r.bar.text(), ("yes" if r.holds else "NO") if r.bar.text() else "") if with_bars else ()
        rows.add_row(r.entry, *figures, *bar_cells, r.note)
    Console(highlight=False).print(rows)


if __name__ == "__main__":
    main()
