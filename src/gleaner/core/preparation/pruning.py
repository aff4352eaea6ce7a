"""How many users, items and rows a preparation prunes, before anything is fitted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl

from gleaner.core.data.rows import InteractionRows
from gleaner.core.preparation.prepare import core_mask, keep_rows
from gleaner.core.preparation.recipe import Preparation


@dataclass(frozen=True)
class Pruned:
    """Users, items and rows that pruning removes, each with how many there were."""

    users: int
    users_of: int
    items: int
    items_of: int
    rows: int
    rows_of: int


def count_pruned(rows: InteractionRows, how: Preparation) -> Pruned:
    """Count what `drop_users_over`, `min_user` and `min_item` remove from the rows that a preparation selects."""
    frame = keep_rows(rows, how)[0].frame.select("user", "item")
    light = frame
    if how.drop_users_over is not None:
        light = frame.filter(pl.len().over("user") <= how.drop_users_over)
    pairs = light.unique()
    user, item = pairs["user"].to_numpy().astype(np.int64), pairs["item"].to_numpy().astype(np.int64)
    left = pairs.filter(pl.Series(core_mask(user, item, how.min_user, how.min_item), dtype=pl.Boolean))
    rows_left = light.join(left, on=["user", "item"], how="semi").height
    n_users, n_items = (frame[name].n_unique() for name in ("user", "item"))
    return Pruned(
        users=n_users - left["user"].n_unique(),
        users_of=n_users,
        items=n_items - left["item"].n_unique(),
        items_of=n_items,
        rows=frame.height - rows_left,
        rows_of=frame.height,
    )
