"""What one version of a dataset looks like: counts, activity, long tail, rows over time."""

from __future__ import annotations

from typing import Any

import numpy as np
import polars as pl

TAIL_POINTS = 50
PERIOD_LIMITS = ((400, "1d"), (400 * 7, "1w"), (400 * 31, "1mo"))


def profile(rows: pl.LazyFrame) -> dict[str, Any]:
    """Figures of interaction rows, as JSON values.

    rows: lazy columns user, item and, where present, kind, time, value. Everything is aggregated by the streaming
    engine, so memory follows the number of users and items, not of rows.
    """
    columns = rows.collect_schema().names()
    per_user = _activity(rows, "user")
    per_item = _activity(rows, "item")
    n_rows, n_users, n_items = int(per_user.sum()), len(per_user), len(per_item)
    return {
        "rows": n_rows,
        "users": n_users,
        "items": n_items,
        "density": n_rows / (n_users * n_items),
        "rows_per_user": _spread(per_user),
        "rows_per_item": _spread(per_item),
        "long_tail": long_tail(per_item),
        "gini": gini(per_item),
        "kinds": _kinds(rows) if "kind" in columns else None,
        "span": _span(rows) if "time" in columns else None,
        "over_time": _over_time(rows, "kind" in columns) if "time" in columns else None,
        "values": _values(rows) if "value" in columns else None,
    }


def long_tail(per_item: np.ndarray) -> list[dict[str, float]]:
    """Share of rows held by the most popular share of items, at TAIL_POINTS + 1 points from (0, 0) to (1, 1)."""
    ordered = np.sort(per_item)[::-1].astype(np.float64)
    held = np.concatenate([[0.0], np.cumsum(ordered)])
    at = np.unique(np.linspace(0, len(ordered), TAIL_POINTS + 1).round().astype(int))
    return [{"items": float(i / len(ordered)), "rows": float(held[i] / held[-1])} for i in at]


def gini(counts: np.ndarray) -> float:
    """Gini coefficient of counts, 0 (all equal) to 1 - 1/n (all in one): sum_i (2i - n - 1) x_i / (n sum x)."""
    ordered = np.sort(counts).astype(np.float64)
    n = len(ordered)
    return float(((2 * np.arange(1, n + 1) - n - 1) * ordered).sum() / (n * ordered.sum()))


def _activity(rows: pl.LazyFrame, column: str) -> np.ndarray:
    counted = rows.group_by(column).agg(n=pl.len()).select("n").collect(engine="streaming")
    return counted["n"].to_numpy()


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
    """Rows per day, week, month or year: the finest period that gives at most about 400 points."""
    edges = rows.select(first=pl.col("time").min(), last=pl.col("time").max()).collect(engine="streaming").row(0)
    if edges[0] is None:
        return {"period": "1d", "points": []}
    days = (edges[1] - edges[0]).days
    period = next((name for limit, name in PERIOD_LIMITS if days <= limit), "1y")
    keys = ["at", "kind"] if by_kind else ["at"]
    counted = (
        rows.filter(pl.col("time").is_not_null())
        .with_columns(at=pl.col("time").dt.truncate(period).dt.date())
        .group_by(keys)
        .agg(rows=pl.len())
        .collect(engine="streaming")
        .sort(keys)
    )
    points = counted.with_columns(pl.col("at").dt.to_string("%Y-%m-%d")).to_dicts()
    return {"period": period, "points": points}


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
    distinct = rows.select(column.drop_nulls().unique().head(21)).collect(engine="streaming").height
    binned = (
        column
        if distinct <= 20
        else ((column - low) / ((high - low) / 20)).floor().clip(0, 19) * ((high - low) / 20) + low
    )
    counted = rows.filter(column.is_not_null()).group_by(at=binned).agg(rows=pl.len()).collect(engine="streaming")
    result["histogram"] = counted.sort("at").to_dicts()
    result["binned"] = distinct > 20
    return result
