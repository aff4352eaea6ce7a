"""What one version of a dataset looks like: counts, activity, long tail, rows over time."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np
import polars as pl

TAIL_POINTS = 50
COLD_LIMITS = (1, 2, 4, 9)
MEAN_BINS = 20
ROBOT_ROWS = 100
PERIOD_LIMITS = ((400, "1d"), (400 * 7, "1w"), (400 * 31, "1mo"))
EDGE, SHORTEST = 0.005, timedelta(days=30)


@dataclass(frozen=True, eq=False)
class ProfileFigures:
    """Figures as JSON values, and one row per user and per item: id, rows and, where there are any, values, mean,
    first and last time, most rows first."""

    facts: dict[str, Any]
    users: pl.DataFrame
    items: pl.DataFrame


def profile(rows: pl.LazyFrame, cells: int | None = None) -> ProfileFigures:
    """Figures of interaction rows.

    rows: lazy columns user, item and, where present, kind, time, value. Everything is aggregated by the streaming
    engine, so memory follows the number of users and items, not of rows. cells: distinct (user, item) pairs, where
    they were counted already.
    """
    columns = rows.collect_schema().names()
    if cells is None:
        cells = rows.select("user", "item").unique().select(pl.len()).collect(engine="streaming").item()
    users, items = activity(rows, "user", columns), activity(rows, "item", columns)
    per_user, per_item = users["rows"].to_numpy(), items["rows"].to_numpy()
    n_rows, n_users, n_items = int(per_user.sum()), len(per_user), len(per_item)
    facts = {
        "rows": n_rows,
        "users": n_users,
        "items": n_items,
        "cells": cells,
        "density": cells / (n_users * n_items),
        "rows_per_user": _spread(per_user),
        "rows_per_item": _spread(per_item),
        "long_tail": long_tail(per_item),
        "gini": gini(per_item),
        "activity": {"user": activity_bins(per_user), "item": activity_bins(per_item)},
        "cold": {"user": cold(per_user), "item": cold(per_item)},
        "means": _means(users, items) if "value" in columns else {},
        "kinds": _kinds(rows) if "kind" in columns else None,
        "span": _span(rows) if "time" in columns else None,
        "over_time": _over_time(rows, "kind" in columns) if "time" in columns else None,
        "values": _values(rows) if "value" in columns else None,
    }
    return ProfileFigures(facts, users, items)


def activity(rows: pl.LazyFrame, side: str, columns: list[str]) -> pl.DataFrame:
    """One row per id of a side, `user` or `item`: rows, and values, mean, first, last where the data has them."""
    figures = [pl.len().alias("rows")]
    if "value" in columns:
        figures += [pl.col("value").count().alias("values"), pl.col("value").mean().alias("mean")]
    if "time" in columns:
        figures += [pl.col("time").min().alias("first"), pl.col("time").max().alias("last")]
    counted = rows.group_by(pl.col(side).alias("id")).agg(figures).collect(engine="streaming")
    return counted.sort("rows", "id", descending=[True, False])


def activity_bins(counts: np.ndarray) -> list[dict[str, int]]:
    """How many have 1, 2, 3-4, 5-9, 10-19, 20-49, ... rows: bins at 1, 2, 5 times powers of ten, and 3."""
    edges = sorted({1, 2, 3, *(m * 10**e for e in range(10) for m in (1, 2, 5))})
    edges = [edge for edge in edges if edge <= counts.max()]
    per_bin = np.bincount(np.searchsorted(edges, counts, side="right") - 1, minlength=len(edges))
    return [{"at": int(edge), "count": int(n)} for edge, n in zip(edges, per_bin, strict=True)]


def cold(counts: np.ndarray) -> list[dict[str, float]]:
    """Those with at most 1, 2, 4, 9 rows: how many, their share, and the share of rows they hold."""
    total = counts.sum()
    return [
        {
            "at_most": limit,
            "count": int((counts <= limit).sum()),
            "share": float((counts <= limit).mean()),
            "rows": float(counts[counts <= limit].sum() / total),
        }
        for limit in COLD_LIMITS
    ]


def robots(counts: np.ndarray) -> float:
    """The number of rows above which a user's activity is extreme: the upper outer fence of log activity,
    exp(Q3 + 3 (Q3 - Q1)) (Tukey 1977), and at least ROBOT_ROWS."""
    logs = np.log(counts)
    low, high = np.quantile(logs, [0.25, 0.75])
    return float(max(ROBOT_ROWS, np.exp(high + 3 * max(high - low, np.log(2)))))


def _means(users: pl.DataFrame, items: pl.DataFrame) -> dict[str, list[dict[str, float]]]:
    """Histograms, of twenty bins over one range, of the mean value of users and of items."""
    figures = {}
    both = [side["mean"].drop_nulls().to_numpy() for side in (users, items)]
    known = np.concatenate(both)
    if not len(known):
        return {}
    low, high = float(known.min()), float(known.max())
    for name, means in zip(("user", "item"), both, strict=True):
        counts, edges = np.histogram(means, bins=MEAN_BINS, range=(low, high if high > low else low + 1))
        figures[name] = [{"at": float(at), "rows": int(n)} for at, n in zip(edges, counts, strict=False)]
    return figures


def long_tail(per_item: np.ndarray) -> list[dict[str, float]]:
    """Share of rows held by the most popular share of items, at TAIL_POINTS + 1 points from (0, 0) to (1, 1)."""
    ordered = np.sort(per_item)[::-1].astype(np.float64)
    row_shares = np.concatenate([[0.0], np.cumsum(ordered)])
    at = np.unique(np.linspace(0, len(ordered), TAIL_POINTS + 1).round().astype(int))
    return [{"items": float(i / len(ordered)), "rows": float(row_shares[i] / row_shares[-1])} for i in at]


def gini(counts: np.ndarray) -> float:
    """Gini coefficient of counts, 0 (all equal) to 1 - 1/n (all in one): sum_i (2i - n - 1) x_i / (n sum x)."""
    ordered = np.sort(counts).astype(np.float64)
    n = len(ordered)
    return float(((2 * np.arange(1, n + 1) - n - 1) * ordered).sum() / (n * ordered.sum()))


def _spread(counts: np.ndarray) -> dict[str, float]:
    quarters = np.quantile(counts, [0, 0.25, 0.5, 0.75, 0.99, 1])
    names = ("min", "q25", "median", "q75", "q99", "max")
    return {"mean": float(counts.mean())} | {name: float(v) for name, v in zip(names, quarters, strict=True)}


def _kinds(rows: pl.LazyFrame) -> list[dict[str, Any]]:
    counted = rows.group_by("kind").agg(rows=pl.len()).collect(engine="streaming")
    return counted.sort("rows", "kind", descending=[True, False]).to_dicts()


def _span(rows: pl.LazyFrame) -> dict[str, str | None]:
    edges = rows.select(first=pl.col("time").min(), last=pl.col("time").max()).collect(engine="streaming").row(0)
    return {name: at.isoformat() if at else None for name, at in zip(("first", "last"), edges, strict=True)}


def _over_time(rows: pl.LazyFrame, by_kind: bool) -> dict[str, Any]:
    """Rows per day, week, month or year: the finest period that gives at most about 400 points.

    A few rows far from all others, such as those of 1970, would press the rest into one point: they are left out, and
    counted.
    """
    keys = ["at", "kind"] if by_kind else ["at"]
    daily = (
        rows.filter(pl.col("time").is_not_null())
        .with_columns(at=pl.col("time").dt.date())
        .group_by(keys)
        .agg(rows=pl.len())
        .collect(engine="streaming")
        .sort(keys)
    )
    if not daily.height:
        return {"period": "1d", "points": []}
    first, last = _shown_span(daily)
    within = daily.filter(pl.col("at").is_between(first, last))
    days = (last - first).days
    period = next((name for limit, name in PERIOD_LIMITS if days <= limit), "1y")
    counted = within.with_columns(pl.col("at").dt.truncate(period)).group_by(keys).agg(pl.col("rows").sum()).sort(keys)
    points = counted.with_columns(pl.col("at").dt.to_string("%Y-%m-%d")).to_dicts()
    return {"period": period, "points": points, "left_out": int(daily["rows"].sum()) - int(within["rows"].sum())}


def _shown_span(daily: pl.DataFrame) -> tuple[date, date]:
    """First and last day of a chart. daily: at, rows, by day. What lies further from the middle 99 % of the rows than
    these are long is cut off."""
    days: list[date] = daily["at"].to_list()
    reached = np.cumsum(daily["rows"].to_numpy()) / int(daily["rows"].sum())
    low, high = days[int(np.searchsorted(reached, EDGE, side="right"))], days[int(np.searchsorted(reached, 1 - EDGE))]
    reach = max(high - low, SHORTEST)
    near = [day for day in days if low - day <= reach and day - high <= reach]
    return near[0], near[-1]


def _values(rows: pl.LazyFrame) -> dict[str, Any]:
    column = pl.col("value")
    facts = rows.select(
        missing=column.is_null().sum(),
        n=column.count(),
        mean=column.mean(),
        min=column.min(),
        max=column.max(),
    ).collect(engine="streaming")
    result = facts.to_dicts()[0]
    low, high = result["min"], result["max"]
    result["histogram"] = []
    if low is None:
        return result
    result["histogram"], result["binned"] = histogram(rows, low, high)
    return result


def histogram(rows: pl.LazyFrame, low: float, high: float) -> tuple[list[dict[str, float]], bool]:
    """Rows by value: each value where there are at most twenty, else twenty bins from `low` to `high` (then True)."""
    column = pl.col("value")
    distinct = rows.select(column.drop_nulls().unique().head(21)).collect(engine="streaming").height
    binned = (
        column
        if distinct <= 20
        else ((column - low) / ((high - low) / 20)).floor().clip(0, 19) * ((high - low) / 20) + low
    )
    counted = rows.filter(column.is_not_null()).group_by(at=binned).agg(rows=pl.len()).collect(engine="streaming")
    return counted.sort("at").to_dicts(), distinct > 20
