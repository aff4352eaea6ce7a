"""What users have in common, counted exactly from interaction rows."""

from __future__ import annotations

from itertools import combinations
from typing import Any

import numpy as np
import polars as pl

LEAST_COMMON = 3
"""Fewer common values say nothing of a correlation: two always lie on a line."""


def pairs(rows: pl.DataFrame, users: list[str]) -> list[dict[str, Any]]:
    """Every pair of users: distinct items of each side's union and intersection, Jaccard, Pearson, mean absolute gap.

    rows: columns user, item and perhaps value, of these users. A user's value of an item is the mean of theirs.
    """
    figures = [pl.col("value").mean()] if "value" in rows.columns else []
    cells = rows.group_by("user", "item").agg(figures)
    by_user = {str(key[0]): frame for key, frame in cells.partition_by("user", as_dict=True).items()}
    shared = []
    for one, other in combinations(users, 2):
        common = by_user[one].join(by_user[other], on="item", how="inner")
        union = by_user[one].height + by_user[other].height - common.height
        shared.append(
            {
                "user": one,
                "other": other,
                "items": union,
                "common": common.height,
                "jaccard": common.height / union,
            }
            | (_alike(common) if figures else {})
        )
    return shared


def _alike(common: pl.DataFrame) -> dict[str, float | None]:
    both = common.filter(pl.col("value").is_not_null() & pl.col("value_right").is_not_null())
    x, y = both["value"].to_numpy(), both["value_right"].to_numpy()
    gap = float(np.abs(x - y).mean()) if len(x) else None
    varies = len(x) >= LEAST_COMMON and x.std() > 0 and y.std() > 0
    return {"correlation": float(np.corrcoef(x, y)[0, 1]) if varies else None, "gap": gap}
