"""How two versions of a dataset differ: counts, and drift of popularity and of values."""

from __future__ import annotations

from typing import Any

import numpy as np
import polars as pl

MOVERS = 10


def compare(before: pl.DataFrame, after: pl.DataFrame) -> dict[str, Any]:
    """Items gone and new, drift of popularity, and the items whose share of rows changed most.

    before, after: columns id and rows, one row per item. Drift is the total variation distance of the shares:
    half the sum of |p - q|, 0 where nothing moved and 1 where nothing is shared. rank_correlation: Spearman over the
    items both have, None below three.
    """
    both = before.select("id", "rows").join(
        after.select("id", "rows"), on="id", how="full", coalesce=True, suffix="_after"
    )
    p = both["rows"].fill_null(0).to_numpy() / before["rows"].sum()
    q = both["rows_after"].fill_null(0).to_numpy() / after["rows"].sum()
    shared = both.drop_nulls()
    correlation = None
    if shared.height >= 3 and shared["rows"].n_unique() > 1 and shared["rows_after"].n_unique() > 1:
        # half a second to load, which most who import this never need
        from scipy import stats

        correlation = float(stats.spearmanr(shared["rows"], shared["rows_after"]).statistic)
    most = np.argsort(-np.abs(q - p), kind="stable")[:MOVERS]
    ids = both["id"]
    return {
        "new": int(both["rows"].null_count()),
        "gone": int(both["rows_after"].null_count()),
        "drift": float(np.abs(p - q).sum() / 2),
        "rank_correlation": correlation,
        "movers": [
            {"name": ids[int(at)], "before": float(p[at]), "after": float(q[at])} for at in most if p[at] != q[at]
        ],
    }


def shares(before: dict[str, float], after: dict[str, float]) -> tuple[float, list[dict[str, Any]]]:
    """Total variation distance of two counts by name, and both shares of every name."""
    total_before, total_after = sum(before.values()) or 1.0, sum(after.values()) or 1.0
    names = sorted({*before, *after}, key=_numeric_first)
    pairs = [(before.get(name, 0) / total_before, after.get(name, 0) / total_after) for name in names]
    shared = [{"name": name, "before": one, "after": two} for name, (one, two) in zip(names, pairs, strict=True)]
    return sum(abs(one - two) for one, two in pairs) / 2, shared


def by_chance(before: np.ndarray, n: int, *, draws: int = 9, seed: int = 1) -> float:
    """The total variation distance that n rows would show if nothing had moved: the mean over draws from the counts
    `before`. A few rows are far from any long tail, so a drift says nothing without it."""
    total = before.sum()
    if not n or not total:
        return 0.0
    p = before / total
    drawn = np.random.default_rng(seed).multinomial(n, p, size=draws) / n
    return float(np.abs(drawn - p).sum(axis=1).mean() / 2)


def _numeric_first(name: str) -> tuple[int, float, str]:
    try:
        return (0, float(name), "")
    except ValueError:
        return (1, 0.0, name)
