"""Figures of contenders: per user, and averaged."""

from __future__ import annotations

import numpy as np
import polars as pl

from gleaner.core.contests.judging import StageScores
from gleaner.core.contests.parts import SplitStage
from gleaner.core.contests.results import PartFigure
from gleaner.core.metrics.catalogue import any_of_values
from gleaner.core.metrics.evaluation import Figures
from gleaner.core.metrics.statistics import Interval, intervals
from gleaner.core.metrics.values import per_user_errors, value_intervals

PER_PAIR = ("items", "places", "popularity", "moments")
PER_VALUE = ("actual", "predicted")


def per_user_frame(part: str, scored: list[StageScores]) -> pl.DataFrame:
    """One row per user of a part: with folds, the mean over the folds in which the user counts.

    Columns: part, user; history, the items training (or what is shown) has of the user, and own_mean, the mean of their
    weights or values; items, the relevant ones, and for each its place in the list (0: not there), its training users
    (popularity) and when it was met (moments); actual and predicted values; then every figure by its label. Null where
    the user has none.
    """
    frames = [_stage_frame(part, each) for each in scored]
    whole = pl.concat(frames).with_columns(pl.col(pl.Float64).fill_nan(None))
    if len(frames) > 1:
        lists = [pl.col(name).explode().drop_nulls() for name in (*PER_PAIR, *PER_VALUE) if name in whole.columns]
        averages = pl.col(pl.Float64).mean(), pl.col("history").mean().cast(pl.Int64)
        whole = whole.group_by("part", "user", maintain_order=True).agg(*lists, *averages)
    return whole.with_columns(pl.col(pl.Float64).cast(pl.Float32))


def _stage_frame(part: str, scored: StageScores) -> pl.DataFrame:
    stage, truth = scored.stage, scored.stage.truth
    known = stage.known
    rows = truth.user_rows if scored.held_out is None else np.union1d(truth.user_rows, scored.held_out.users)
    lengths = np.diff(known.indptr)
    totals = np.bincount(known.user_rows, weights=known.values, minlength=len(lengths))
    base = pl.DataFrame(
        {
            "row": pl.Series(rows, dtype=pl.Int32),
            "part": pl.repeat(part, len(rows), eager=True),
            "user": known.users.take(rows),
            "history": pl.Series(lengths[rows], dtype=pl.Int64),
            "own_mean": totals[rows] / np.maximum(lengths[rows], 1),
        }
    )
    whole = base.join(_pairs_of(stage, scored.figures), on="row", how="left", maintain_order="left")
    if scored.predictions is not None:
        errors = per_user_errors(scored.predictions)
        whole = whole.join(errors, on="row", how="left", maintain_order="left")
    return whole.drop("row")


def _pairs_of(stage: SplitStage, figures: Figures) -> pl.DataFrame:
    """A row per user with relevant items: `row`, the lists of PER_PAIR and the ranking figures."""
    truth = stage.truth
    counts = np.bincount(stage.train.indices, minlength=len(stage.train.items))
    flat = {
        "items": stage.train.items.take(truth.indices),
        "places": pl.Series(figures.places, dtype=pl.Int32),
        "popularity": pl.Series(counts[truth.indices], dtype=pl.Int32),
    }
    if truth.moments is not None:
        flat["moments"] = pl.Series(truth.moments)
    owner = pl.Series("row", np.repeat(truth.user_rows, np.diff(truth.indptr)), dtype=pl.Int32)
    lists = pl.DataFrame({"row": owner} | flat).group_by("row", maintain_order=True).agg(pl.all())
    return lists.hstack(pl.DataFrame(figures.per_user))


def column(frame: pl.DataFrame, label: str) -> np.ndarray:
    """Figures of a frame as float64 (n_users,), NaN where there is none."""
    return frame[label].cast(pl.Float64).fill_null(float("nan")).to_numpy()


def means(frame: pl.DataFrame, scored: list[StageScores], names: list[str], seed: int) -> list[PartFigure]:
    """Means over users with their intervals, and what all lists have together: with folds, the mean over folds.

    RMSE, MAE and R2 are of all values together. A figure nobody has, such as the spread of lists of one item, is left
    out rather than reported as a number.
    """
    per_user = [name for name in names if name in frame.columns and not any_of_values([name])]
    by_name: dict[str, Interval] = {}
    if per_user:
        table = np.column_stack([column(frame, name) for name in per_user])
        by_name = dict(zip(per_user, intervals(table, seed), strict=True))
    for name in names:
        if name in scored[0].figures.whole:
            by_name[name] = Interval(float(np.mean([each.figures.whole[name] for each in scored])), None, None)
    if "actual" in frame.columns:
        rated = frame.filter(pl.col("actual").list.len() > 0)
        by_name |= value_intervals(rated["actual"], rated["predicted"], seed)
    part = frame["part"][0]
    defined = [name for name in names if name in by_name and not np.isnan(by_name[name].mean)]
    return [PartFigure(name, part, by_name[name]) for name in defined]
