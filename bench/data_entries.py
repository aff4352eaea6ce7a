"""Bringing data in, and preparing and splitting it, each beside the bare work of a general library on the same file."""

from __future__ import annotations

import tempfile
from datetime import UTC, datetime
from pathlib import Path

import polars as pl

from bench.measure import Result, measure
from bench.worlds import csv_of
from gleaner.core.contests.parts import divide
from gleaner.core.data.profile import profile
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split
from gleaner.jobs.datasets.content_hash import ContentHash
from gleaner.jobs.datasets.derive import DeriveSteps
from gleaner.jobs.datasets.findings import findings_of
from gleaner.jobs.datasets.import_rows import ImportTally, InteractionWriter, RowFile, RowReader, row_columns
from gleaner.jobs.datasets.sources.delimited import DelimitedSource
from gleaner.store.files.interactions import read_rows
from gleaner.wire.imports import ImportRequest, Roles, Source

ROLES = Roles(user="grower", item="variety", kind="kind", time="at", value="value")
TURNS = 2


def import_rows(size: str) -> Result:
    """A CSV file typed, checked, hashed, written, profiled and looked through, as an import does."""
    path = csv_of(size)
    with tempfile.TemporaryDirectory() as folder:
        out, bare = Path(folder) / "rows.parquet", Path(folder) / "bare.parquet"
        seconds, peer, peak = measure(
            lambda: _import(path, out), lambda: pl.scan_csv(path).sink_parquet(bare, compression="zstd"), TURNS
        )
    note = f"{path.stat().st_size / 1e6:.0f} MB of CSV to a checked version with its profile"
    return Result("import", seconds, peak, "bare CSV to Parquet", peer, note)


def _import(path: Path, out: Path) -> None:
    request = ImportRequest(interactions=Source(upload="u-0000000000000000"), roles=ROLES)
    source, tally = DelimitedSource("interactions.csv", path), ImportTally()
    reader = RowReader(RowFile(source, DeriveSteps(source, [], {})), request, tally, datetime.now(UTC))
    writer = InteractionWriter(out, row_columns([reader], []), ContentHash())
    for frame in reader.frames(lambda done: None):
        writer.add(frame)
    writer.close()
    profiled = profile(pl.scan_parquet(out), writer.rows - writer.pairs_again())
    findings_of(request, out, writer, tally, profiled)


def prepare_and_split(size: str) -> Result:
    """Rows read, weighed, split by time, merged, pruned and checked for leaks, matrices for both stages."""
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "rows.parquet"
        _import(csv_of(size), out)
        plan = Preparation(kinds={"view": 1, "save": 3, "request": 5}, min_user=5, min_item=5)
        seconds, peer, peak = measure(
            lambda: divide(read_rows(out), plan, Split(), lambda done, text: None), lambda: _grouped(out), TURNS
        )
    return Result(
        "prepare and split", seconds, peak, "bare group-by of the pairs", peer, "by time, two stages, leak checks"
    )


def _grouped(path: Path) -> None:
    pl.scan_parquet(path).group_by("user", "item").agg(pl.len()).collect()
