"""Lists beside the contenders of a run: their figures, and every pair user by user."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
import polars as pl

from gleaner.core.contests.comparison import compared
from gleaner.core.errors import InputError
from gleaner.core.metrics.catalogue import require_metric
from gleaner.jobs.contests.messages import comparison_message
from gleaner.store.records.contests import RunRecord
from gleaner.wire.contests.rank import RankSpec
from gleaner.wire.contests.runs import ContestComparison, Figure
from gleaner.wire.lists import BesideFigures


def metrics_of_lists(rank: RankSpec) -> tuple[list[str], list[str]]:
    """The metrics that lists alone give, and those that they do not."""
    left_out = [name for name in rank.metrics if require_metric(name).sort in ("order", "values", "likelihood")]
    return [name for name in rank.metrics if name not in left_out], left_out


def contender_figures(run: RunRecord, names: Sequence[str]) -> list[BesideFigures]:
    """Those of each contender that lists have too."""
    return [
        BesideFigures(
            contender=each.contender,
            figures=[Figure.of_record(figure) for name in names if (figure := each.figure(name)) is not None],
        )
        for each in run.standings
    ]


def compared_beside(
    label: str, users: Sequence[str], per_user: Mapping[str, np.ndarray], files: Mapping[str, Path], run: RunRecord
) -> ContestComparison | None:
    """Lists and contenders on the deciding metric, over the same users in the same order. None where lists do not give
    it. Raises InputError where a contender has the label."""
    rank, seed = run.spec.rank, run.spec.seed
    metric = rank.decide_by
    if metric not in per_user:
        return None
    if label in files:
        raise InputError(f"{run.name} has a contender called {label!r}; give the lists another name", where="label")
    # as those of the contenders are kept: a difference in the ninth digit that all users share would seem a sure one
    together: dict[str, np.ndarray] = {label: per_user[metric].astype(np.float32).astype(np.float64)}
    asked = pl.Series("user", users, dtype=pl.String).to_frame()
    for contender, path in files.items():
        if metric in pl.read_parquet_schema(path):
            frame = pl.read_parquet(path, columns=["part", "user", metric]).filter(part="test")
            mine = asked.join(frame, on="user", how="left", maintain_order="left")[metric]
            together[contender] = mine.cast(pl.Float64).fill_null(float("nan")).to_numpy()
    return comparison_message(compared(together, rank.deciding, seed, run.spec.baseline, []))
