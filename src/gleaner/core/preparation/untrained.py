"""What a preparation would make of the rows that a training matrix lacks."""

from __future__ import annotations

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.untrained_cells import UntrainedCells
from gleaner.core.kernels.cells import mark_cells
from gleaner.core.parallel import even_ranges, run_ranges
from gleaner.core.preparation.merging import merge_repeats
from gleaner.core.preparation.prepare import in_window, map_rows, recipe_of
from gleaner.core.preparation.recipe import Preparation, Recipe

PAIRS_AT_ONCE = 1_000_000
DAY_US = 86_400e6


def untrained_cells(rows: InteractionRows, how: Preparation, train: InteractionMatrix) -> UntrainedCells:
    """Return the cells of a data version that are not in a training matrix.

    Rows of dropped kinds are no cells. A value below the threshold, a missing value and a row outside the window make a
    cell without a value; users with rows outside the window only keep their values. Decay counts from the last training
    row. After a transform every cell has the median of the training cells, because what was learned is not kept.
    """
    recipe = recipe_of(rows, how)
    frame = _rows_without_cell(rows, recipe, train)
    if not frame.height:
        return UntrainedCells.empty()
    frame = frame.with_columns(measure=_measure(rows, recipe), inside=_inside(rows, recipe, how))
    if how.half_life_days is not None and rows.has("time"):
        frame = frame.with_columns(measure=pl.col("measure") * _decay(how.half_life_days, train))
    has_more = pl.col("inside").any().over("user") | pl.col("user").is_in(_trained_codes(rows, train))
    frame = frame.with_columns(measure=pl.when(pl.col("inside") | ~has_more).then(pl.col("measure")))
    return _merged(rows, frame, recipe, how, train)


def trains_on_every_cell(how: Preparation, *, has_values: bool) -> bool:
    """Return whether a model fitted on all rows has every pair of the selected kinds among its training cells."""
    is_pruned = how.min_user > 1 or how.min_item > 1 or how.drop_users_over is not None
    has_window = how.since is not None or how.until is not None or how.last_days is not None
    is_filtered = has_window or how.like_from is not None or how.half_life_days is not None
    return not (is_pruned or is_filtered or Recipe.of(how, has_values=has_values).values)


def _rows_without_cell(rows: InteractionRows, recipe: Recipe, train: InteractionMatrix) -> pl.DataFrame:
    """Return the rows of the selected kinds whose (user, item) pair is not a training cell."""
    frame = rows.frame
    users = map_rows(rows.users, train.users)[frame["user"].to_numpy()]
    items = map_rows(rows.items, train.items)[frame["item"].to_numpy()]
    is_trained = np.empty(frame.height, dtype=bool)

    def mark(lo: int, hi: int) -> None:
        mark_cells(lo, hi, train.indptr, train.indices, users, items, is_trained)

    run_ranges(mark, even_ranges(frame.height, PAIRS_AT_ONCE))
    frame = frame.filter(pl.Series(~is_trained))
    if not rows.has("kind") or not (recipe.kinds or recipe.drop_kinds):
        return frame.with_columns(weight=pl.lit(1.0))
    weights = recipe.weights(frame["kind"].cast(pl.String).unique().to_list())
    table = pl.DataFrame(
        {"kind": list(weights), "weight": list(weights.values())}, schema={"kind": pl.String, "weight": pl.Float64}
    )
    return frame.with_columns(pl.col("kind").cast(pl.String)).join(
        table, on="kind", how="inner", nulls_equal=True, maintain_order="left"
    )


def _measure(rows: InteractionRows, recipe: Recipe) -> pl.Expr:
    """Return what a row measures; null where it is dropped."""
    if recipe.like_from is not None:
        return (
            pl.when(pl.col("value") >= recipe.like_from).then(pl.col("weight")) if rows.has("value") else pl.lit(None)
        )
    return pl.col("weight") * pl.col("value") if recipe.values and rows.has("value") else pl.col("weight")


def _inside(rows: InteractionRows, recipe: Recipe, how: Preparation) -> pl.Expr:
    """Return whether a row is inside the window."""
    if not rows.has("time"):
        return pl.lit(True)
    frame = rows.frame
    if how.last_days is not None and rows.has("kind") and (recipe.kinds or recipe.drop_kinds):
        kept = recipe.weights(frame["kind"].cast(pl.String).unique().to_list())
        frame = frame.filter(pl.col("kind").cast(pl.String).is_in(list(kept), nulls_equal=True))
    return in_window(frame, how)[0]


def _decay(half_life: float, train: InteractionMatrix) -> pl.Expr:
    """Return the weight of a row by its age at the last training row."""
    days = np.array([]) if train.days is None else train.days[~np.isnan(train.days)]
    if not len(days):
        return pl.lit(1.0)
    age = (float(days.max()) - pl.col("time").dt.timestamp("us").cast(pl.Float64) / DAY_US).clip(lower_bound=0)
    return (0.5 ** (age / half_life)).fill_null(0.0)


def _trained_codes(rows: InteractionRows, train: InteractionMatrix) -> pl.Series:
    """Return the user codes that have a row in the training matrix."""
    return pl.Series(np.flatnonzero(map_rows(rows.users, train.users) >= 0).astype(np.uint32))


def _merged(
    rows: InteractionRows, frame: pl.DataFrame, recipe: Recipe, how: Preparation, train: InteractionMatrix
) -> UntrainedCells:
    counted = rows.with_frame(frame.filter(pl.col("measure").is_not_null()))
    merge = recipe.merge if recipe.merge != "latest" or rows.has("time") else "max"
    if len(counted):
        cells = merge_repeats(counted, merge)
        user, item, values, days = cells.user, cells.item, cells.value.astype(np.float32), cells.days
    else:
        user, item, values, days = np.empty(0, np.uint32), np.empty(0, np.uint32), np.empty(0, np.float32), None
    if how.transform:
        values = np.full(len(values), np.median(train.values), dtype=np.float32)
    elif recipe.values and train.scale is not None:
        values = np.clip(values, *train.scale)
    pairs = frame.filter(pl.col("measure").is_null()).select("user", "item").unique()
    known = pl.DataFrame({"user": user, "item": item}, schema={"user": pl.UInt32, "item": pl.UInt32})
    others = pairs.join(known, on=["user", "item"], how="anti")
    nothing = np.full(others.height, np.nan)
    return UntrainedCells.from_cells(
        np.concatenate([user, others["user"].to_numpy()]),
        np.concatenate([item, others["item"].to_numpy()]),
        np.concatenate([values, nothing]),
        np.concatenate([np.full(len(user), np.nan) if days is None else days, nothing]),
        rows.users,
        rows.items,
    )
