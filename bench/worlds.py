"""Simulated worlds of three sizes, made once and kept beside the results."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.preparation.prepare import build_matrix, keep_rows
from gleaner.core.preparation.recipe import Preparation
from gleaner.demo.events import make_events
from gleaner.demo.world import Sizes, make_world

FOLDER = Path(__file__).parent / "results"
SEED = 11
SIZES = {
    "small": Sizes(6_000, 3_000, 400_000, SEED),
    "medium": Sizes(40_000, 10_000, 4_000_000, SEED),
    "large": Sizes(138_000, 27_000, 20_000_000, SEED),
}
KINDS = {"view": 1.0, "save": 3.0, "request": 5.0}


@dataclass(frozen=True, eq=False)
class World:
    """A training matrix of one size, and how many rows it came from."""

    size: str
    rows: int
    train: InteractionMatrix


@functools.cache
def world_of(size: str) -> World:
    """The world of a size; simulated on first use, then read back."""
    path = FOLDER / f"{size}-{SEED}.parquet"
    if not path.exists():
        FOLDER.mkdir(exist_ok=True)
        events = make_events(make_world(SIZES[size]), SIZES[size])
        events.select(user="grower", item="variety", kind="kind").write_parquet(path.with_suffix(".part"))
        path.with_suffix(".part").rename(path)
    rows = InteractionRows.from_arrow(pl.read_parquet(path).to_arrow())
    how = Preparation(kinds=KINDS)
    train, _ = build_matrix(keep_rows(rows, how)[0], how)
    return World(size, len(rows), train)


def csv_of(size: str) -> Path:
    """The interactions of a size as the simulator writes them; made on first use."""
    path = FOLDER / f"{size}-{SEED}.csv"
    if not path.exists():
        FOLDER.mkdir(exist_ok=True)
        make_events(make_world(SIZES[size]), SIZES[size]).write_csv(path.with_suffix(".part"))
        path.with_suffix(".part").rename(path)
    return path
