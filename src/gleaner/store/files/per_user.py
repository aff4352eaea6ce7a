"""Files of figures per user, one for each contender of a run."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import polars as pl

from gleaner.core.contests.figures import column


def read_metric(paths: dict[str, Path], metric: str, part: str = "test") -> dict[str, np.ndarray]:
    """One metric of one part of every contender, by its file of figures per user; those without it are left out."""
    by_label = {}
    for label, path in paths.items():
        if metric in pl.read_parquet_schema(path):
            by_label[label] = column(pl.read_parquet(path, columns=["part", metric]).filter(part=part), metric)
    return by_label
