"""Figures of contenders: per user, averaged, compared."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import polars as pl

from gleaner.core.evaluation import Figures
from gleaner.core.metrics.catalogue import better_sign
from gleaner.core.metrics.statistics import compare_all, intervals, paired_difference
from gleaner.core.metrics.verdicts import sentences
from gleaner.jobs.divide import Stage
from gleaner.wire.runs import Against, ContestComparison, Figure, PairDifference

PER_PAIR = ("items", "places", "popularity", "moments")


def per_user_frame(part: str, pairs: list[tuple[Stage, Figures]]) -> pl.DataFrame:
    """One row per user of a part: with folds, the mean over the folds in which the user counts.

    Columns: part, user; history, the items training (or what is shown) has of the user; items, the relevant ones, and
    for each its place in the list (0: not there), its training users (popularity) and when it was met (moments); then
    every figure by its label, null where the user has none.
    """
    frames = [_stage_frame(part, stage, figures) for stage, figures in pairs]
    whole = pl.concat(frames).with_columns(pl.col(pl.Float64).fill_nan(None))
    if len(frames) > 1:
        lists = [pl.col(name).explode() for name in PER_PAIR if name in whole.columns]
        means_ = pl.col(pl.Float64).mean(), pl.col("history").mean().cast(pl.Int64)
        whole = whole.group_by("part", "user", maintain_order=True).agg(*lists, *means_)
    return whole.with_columns(pl.col(pl.Float64).cast(pl.Float32))


def _stage_frame(part: str, stage: Stage, figures: Figures) -> pl.DataFrame:
    known, truth = stage.train if stage.shown is None else stage.shown, stage.truth
    counts = np.bincount(stage.train.indices, minlength=len(stage.train.items))
    flat = {
        "items": stage.train.items.take(truth.indices),
        "places": pl.Series(figures.places, dtype=pl.Int32),
        "popularity": pl.Series(counts[truth.indices], dtype=pl.Int32),
    }
    if truth.moments is not None:
        flat["moments"] = pl.Series(truth.moments)
    owner = pl.Series("at", np.repeat(np.arange(figures.n_users), np.diff(truth.indptr)))
    lists = pl.DataFrame({"at": owner} | flat).group_by("at", maintain_order=True).agg(pl.all()).drop("at")
    columns = {
        "part": pl.repeat(part, figures.n_users, eager=True),
        "user": known.users.take(truth.user_rows),
        "history": pl.Series(np.diff(known.indptr)[truth.user_rows], dtype=pl.Int64),
    }
    return pl.DataFrame(columns).hstack(lists).hstack(pl.DataFrame(figures.per_user))


def column(frame: pl.DataFrame, label: str) -> np.ndarray:
    """Figures of a frame as float64 (n_users,), NaN where there is none."""
    return frame[label].cast(pl.Float64).fill_null(float("nan")).to_numpy()


def means(frame: pl.DataFrame, pairs: list[tuple[Stage, Figures]], names: list[str], seed: int) -> list[Figure]:
    """Means over users with their intervals, and what all lists have together: with folds, the mean over folds."""
    part = frame["part"][0]
    per_user = [name for name in names if name in frame.columns]
    found = {}
    if per_user:
        table = np.column_stack([column(frame, name) for name in per_user])
        found = {name: vars(value) for name, value in zip(per_user, intervals(table, seed), strict=True)}
    for name in names:
        if name not in found:
            found[name] = {"mean": float(np.mean([figures.whole[name] for _, figures in pairs]))}
    # a figure nobody has, such as the spread of lists of one item, is left out and not told as a number
    return [Figure(metric=name, part=part, **found[name]) for name in names if not np.isnan(found[name]["mean"])]


def against_popular(mine: np.ndarray | None, popular: np.ndarray | None, sign: int, seed: int) -> Against:
    """Paired difference to popularity on the deciding metric of the test part: users stand in the same order.

    None: the metric has no figure per user, so nothing can be said.
    """
    if mine is None or popular is None:
        return Against(difference=0, low=0, high=0, verdict="cannot tell")
    gap = paired_difference(mine, popular, seed)
    assert gap.low is not None
    assert gap.high is not None
    low, high = sorted((sign * gap.low, sign * gap.high))
    verdict = "better" if low > 0 else "worse" if high < 0 else "cannot tell"
    return Against(difference=gap.mean, low=gap.low, high=gap.high, verdict=verdict)


def read_metric(paths: dict[str, Path], metric: str, part: str = "test") -> dict[str, np.ndarray]:
    """One metric of one part of every contender, by its file of figures per user; those without it are left out."""
    found = {}
    for label, path in paths.items():
        if metric in pl.read_parquet_schema(path):
            found[label] = column(pl.read_parquet(path, columns=["part", metric]).filter(part=part), metric)
    return found


def compared(figures: dict[str, np.ndarray], metric: str, seed: int, baseline: str) -> ContestComparison | None:
    """Every pair of contenders on a metric, and what that comes to. None where nobody has it per user."""
    averages = {label: float(np.nanmean(values)) for label, values in figures.items() if not np.isnan(values).all()}
    if not averages:
        return None
    sign = better_sign(metric)
    leader = max(averages, key=lambda label: (sign or 1) * averages[label])
    found = compare_all({label: figures[label] for label in averages}, sign, seed)
    pairs = [
        PairDifference(
            first=each.first,
            second=each.second,
            difference=each.mean,
            low=each.low,
            high=each.high,
            p=each.p,
            p_holm=each.p_holm,
            users=each.users,
            verdict=each.verdict,
        )
        for each in found
    ]
    told = sentences(averages, found, metric, leader, baseline) if sign else []
    return ContestComparison(metric=metric, leader=leader, pairs=pairs, summary=told)
