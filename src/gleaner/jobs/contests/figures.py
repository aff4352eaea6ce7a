"""Figures of contenders: per user, averaged, compared."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import polars as pl

from gleaner.core.evaluation import Figures
from gleaner.core.metrics.catalogue import better_sign
from gleaner.core.metrics.statistics import Difference, Interval, compare_all, intervals, paired_difference
from gleaner.core.metrics.values import Predictions, per_user_errors, value_intervals
from gleaner.core.metrics.verdicts import oriented, sentences
from gleaner.core.models.base.watching import Held
from gleaner.jobs.datasets.divide import SplitStage
from gleaner.wire.contests.rank import VALUE_METRICS
from gleaner.wire.contests.runs import Ablation, Against, ContestComparison, Figure, PairDifference

PER_PAIR = ("items", "places", "popularity", "moments")
PER_VALUE = ("actual", "predicted")
VALUES_BY_USER = (
    "Differences of {metric} are means over users, each by the {metric} of their own values; the figures of the board "
    "are of all values together, so they need not differ by as much."
)


@dataclass(frozen=True, eq=False)
class Scored:
    """One contender on one stage: ranking figures, and predicted values where it predicts them. held: the values of
    the stage, where the contest asks about values: every contender has a row for each user of theirs."""

    stage: SplitStage
    figures: Figures
    held: Held | None = None
    predictions: Predictions | None = None


def per_user_frame(part: str, scored: list[Scored]) -> pl.DataFrame:
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


def _stage_frame(part: str, scored: Scored) -> pl.DataFrame:
    stage, truth = scored.stage, scored.stage.truth
    known = stage.train if stage.shown is None else stage.shown
    rows = truth.user_rows if scored.held is None else np.union1d(truth.user_rows, scored.held.users)
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


def means(frame: pl.DataFrame, scored: list[Scored], names: list[str], seed: int) -> list[Figure]:
    """Means over users with their intervals, and what all lists have together: with folds, the mean over folds.

    RMSE, MAE and R2 are of all values together. A figure nobody has, such as the spread of lists of one item, is left
    out and not told as a number.
    """
    per_user = [name for name in names if name in frame.columns and name not in VALUE_METRICS]
    found: dict[str, Interval] = {}
    if per_user:
        table = np.column_stack([column(frame, name) for name in per_user])
        found = dict(zip(per_user, intervals(table, seed), strict=True))
    for name in names:
        if name in scored[0].figures.whole:
            found[name] = Interval(float(np.mean([each.figures.whole[name] for each in scored])), None, None)
    if "actual" in frame.columns:
        rated = frame.filter(pl.col("actual").list.len() > 0)
        found |= value_intervals(rated["actual"], rated["predicted"], seed)
    part = frame["part"][0]
    told = [name for name in names if name in found and not np.isnan(found[name].mean)]
    return [Figure(metric=name, part=part, **vars(found[name])) for name in told]


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


def compared(
    figures: dict[str, np.ndarray], metric: str, seed: int, baseline: str, lacking: list[tuple[str, str, str]]
) -> ContestComparison | None:
    """Every pair of contenders on a metric, and what that comes to. None where nobody has it per user.

    lacking: contenders that are others but for one part of the preparation: label, the other's label, the part.
    """
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
    if told and metric in VALUE_METRICS:
        told.append(VALUES_BY_USER.format(metric=metric))
    ablations = [
        _ablation(oriented(found, whole, label), lacks)
        for label, whole, lacks in lacking
        if {label, whole} <= set(averages)
    ]
    return ContestComparison(metric=metric, leader=leader, pairs=pairs, summary=told, ablations=ablations)


def _ablation(gap: Difference, lacks: str) -> Ablation:
    """The paired difference between a contender and the one that lacks a part, as what the part does."""
    verdicts = {"better": "helps", "worse": "harms", "cannot tell": "cannot tell"}
    return Ablation(
        contender=gap.first,
        without=gap.second,
        lacks=lacks,
        difference=gap.mean,
        low=gap.low,
        high=gap.high,
        p_holm=gap.p_holm,
        verdict=verdicts[gap.verdict],
    )
