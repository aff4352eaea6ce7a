"""An export as its job makes it: lists of everyone, worked out part by part, then written as one file."""

from __future__ import annotations

import shutil
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from types import SimpleNamespace

import pyarrow.parquet as pq

from bench.measure import Bar, Result, measure
from bench.products import PRODUCT, RANK, bare_product
from bench.worlds import World
from gleaner.core.fitted import Fitted
from gleaner.core.models.implicit.als import Als
from gleaner.jobs.datasets.row_writer import TableWriter
from gleaner.jobs.exports.parts import read_parts, work_out
from gleaner.jobs.exports.rows import TopLists, parts_with_ids
from gleaner.settings import Settings

TOP, TURNS = 100, 3


@dataclass
class Alone:
    """What a job's context gives an export, without a database."""

    settings: Settings
    claim: SimpleNamespace = field(default_factory=lambda: SimpleNamespace(id=1, attempt=1))

    def require_going(self, done: float, message: str) -> None:
        """Nobody listens."""

    def log(self, text: str) -> None:
        """Nobody reads."""


def top_items(world: World) -> Result:
    """Seconds for the top 100 of every user as one Parquet file, beside the bare product of the factors."""
    model = Als(rank=RANK, iterations=2).fit(world.train)
    content = TopLists(Fitted("bench", model, world.train), "user", TOP, world.train, None)
    content.part(0)
    home = Path(tempfile.mkdtemp(prefix="gleaner-bench-"))
    context = Alone(Settings(home=home))
    context.settings.staging.mkdir()
    out = home / "lists.parquet"

    def work() -> None:
        paths = work_out(context, content)  # type: ignore[arg-type]
        with TableWriter(out, "parquet") as writer:
            for part in parts_with_ids(read_parts(context, paths, 1.0, "writing"), content.ids):  # type: ignore[arg-type]
                writer.write(part)
        shutil.rmtree(context.settings.parts(1))

    try:
        took, peer, peak = measure(work, lambda: bare_product(model), TURNS)
        rows, size = pq.read_metadata(out).num_rows, out.stat().st_size / 1e6
    finally:
        shutil.rmtree(home)
    note = f"{rows:,} rows, {size:,.0f} MB; rank {RANK}, training items excluded"
    return Result(f"export of the top {TOP}", took, peak, PRODUCT, peer, note, Bar(3.0))
