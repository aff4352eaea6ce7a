"""From interaction rows to a training matrix, by declared steps, each saying what it did."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import DataError
from gleaner.core.preparation.merging import MAX_KINDS, merge_repeats
from gleaner.core.preparation.recipe import Preparation, Recipe
from gleaner.core.preparation.transforms import Apply


@dataclass(frozen=True)
class Step:
    """What one step did: rows before and after, and why any went."""

    name: str
    rows_in: int
    rows_out: int
    note: str


@dataclass(frozen=True, eq=False)
class LearnedSteps:
    """What preparing the training part learned, so that a history shown later is treated the same way."""

    how: Preparation
    recipe: Recipe
    last: datetime | None
    applied: tuple[Apply, ...]


@dataclass(frozen=True, eq=False)
class Prepared:
    """A training matrix, the report of each step, and what was learned on the way."""

    matrix: InteractionMatrix
    steps: list[Step]
    learned: LearnedSteps


def keep_rows(rows: InteractionRows, how: Preparation) -> tuple[InteractionRows, list[Step]]:
    """The steps that look at one row alone, safe to run before a split: kinds, window, weights, missing values.

    Adds the column `measure` (float64). Raises DataError when the preparation names what the data lacks.
    """
    steps: list[Step] = []
    recipe = recipe_of(rows, how)
    frame, weight = _kinds(rows, how, recipe, steps)
    frame = _window(rows, frame, how, steps)
    if recipe.like_from is not None:
        _require(rows, "value", "like_from")
        liked = frame.filter(pl.col("value") >= recipe.like_from)
        missing = int(frame["value"].null_count())
        note = f"value of at least {recipe.like_from:g} is a like; {missing:,} of those dropped had no value"
        steps.append(Step("like_from", frame.height, liked.height, note))
        frame = liked
    elif recipe.values:
        _require(rows, "value", "use: values")
        before = frame.height
        frame = frame.filter(pl.col("value").is_not_null())
        note = f"{before - frame.height} rows without a value dropped, not read as zero"
        steps.append(Step("values", before, frame.height, note))
        weight = weight * pl.col("value")
    frame = frame.with_columns(measure=weight)
    return rows.with_frame(frame), steps


def recipe_of(rows: InteractionRows, how: Preparation) -> Recipe:
    """How a preparation reads these rows."""
    return Recipe.of(how, has_values=rows.has("value"))


def _kinds(rows: InteractionRows, how: Preparation, recipe: Recipe, steps: list[Step]) -> tuple[pl.DataFrame, pl.Expr]:
    """The rows of the kinds kept, and the weight of each."""
    frame = rows.frame
    if not how.kinds and not how.drop_kinds:
        return frame, pl.lit(1.0)
    field_name = "kinds" if how.kinds else "drop_kinds"
    _require(rows, "kind", field_name)
    known = set(frame["kind"].unique().to_list())
    unknown = sorted(set(how.kinds or how.drop_kinds) - known)
    if unknown:
        raise DataError(
            f"kind {unknown[0]!r} does not occur; the data has {', '.join(sorted(map(str, known)))}",
            where=f"prepare.{field_name}",
        )
    before = frame.height
    weights = recipe.weights(known)
    named = [kind for kind in weights if kind is not None]
    frame = frame.filter(pl.col("kind").is_in(named, nulls_equal=False).fill_null(None in weights))
    dropped = sorted(str(kind) for kind in known - set(weights))
    steps.append(Step(field_name, before, frame.height, f"dropped: {', '.join(dropped)}" if dropped else "all kept"))
    if not how.kinds:
        return frame, pl.lit(1.0)
    by_kind = {kind: weights[kind] for kind in named}
    return frame, pl.col("kind").cast(pl.String).replace_strict(by_kind, return_dtype=pl.Float64)


def _window(rows: InteractionRows, frame: pl.DataFrame, how: Preparation, steps: list[Step]) -> pl.DataFrame:
    if how.since is None and how.until is None and how.last_days is None:
        return frame
    _require(rows, "time", "window")
    inside, since = in_window(frame, how)
    kept = frame.filter(inside)
    edges = [f"from {since:%Y-%m-%d %H:%M}" if since else "", f"before {how.until:%Y-%m-%d %H:%M}" if how.until else ""]
    undated = int(frame["time"].null_count())
    note = " ".join(filter(None, edges)) + " UTC" + (f"; {undated:,} rows without a time dropped" if undated else "")
    steps.append(Step("window", frame.height, kept.height, note))
    return kept


def in_window(frame: pl.DataFrame, how: Preparation) -> tuple[pl.Expr, datetime | None]:
    """Return whether a row is inside the declared window, and the moment from which it is. Undated rows are outside.

    Without a window every row is inside. `last_days` counts back from the last row of `frame`.
    """
    if how.since is None and how.until is None and how.last_days is None:
        return pl.lit(True), None
    last, since = frame["time"].max(), how.since
    if how.last_days is not None and isinstance(last, datetime):
        from_end = last - timedelta(days=how.last_days)
        since = from_end if since is None else max(since, from_end)
    inside = pl.col("time").is_not_null()
    if since is not None:
        inside &= pl.col("time") >= since
    if how.until is not None:
        inside &= pl.col("time") < how.until
    return inside, since


def prepare(rows: InteractionRows, how: Preparation) -> Prepared:
    """The steps on training rows: drop heavy users, decay, merge repeats, transform, prune; then number users and
    items afresh: only ids that are left have a row.

    `rows` come from `keep_rows`, and from the training part only. Raises DataError when nothing is left.
    """
    if not len(rows):
        raise DataError("the training part is empty: no row is left after dropping kinds", where="prepare")
    steps: list[Step] = []
    if how.drop_users_over is not None:
        rows = _drop_heavy(rows, how.drop_users_over, steps)
    last: datetime | None = None
    if how.half_life_days is not None:
        _require(rows, "time", "half_life_days")
        last = rows.frame["time"].max()  # type: ignore[assignment]
        rows = _decayed(rows, how.half_life_days, last, steps)
    kind_names = _kind_names(rows)
    recipe = recipe_of(rows, how)
    merge = recipe.merge
    cells = merge_repeats(rows, merge, kind_names)
    n_repeats = len(rows) - len(cells.user)
    beyond = _beyond_scale(rows, how, recipe, cells.value)
    note = f"{n_repeats:,} rows repeat a pair of user and item, merged by {merge}{beyond}"
    steps.append(Step("merge", len(rows), len(cells.user), note))
    keep = core_mask(cells.user, cells.item, how.min_user, how.min_item)
    if how.min_user > 1 or how.min_item > 1:
        note = f"users with at least {how.min_user} items, items with at least {how.min_item} users, until stable"
        steps.append(Step("prune", len(keep), int(keep.sum()), note))
    if not keep.any():
        raise DataError(
            f"pruning leaves nothing: no user has {how.min_user} items that {how.min_item} users share",
            where="prepare.min_user",
        )
    if not keep.all():
        cells = cells.keep(keep)
    values, note = _bound(rows, how, recipe, cells.value)
    if note:
        steps.append(Step("scale", len(values), len(values), note))
    applied = []
    for transform in how.transform:
        apply, note = transform.learn(values)
        values = apply(values)
        applied.append(apply)
        steps.append(Step(transform.name, len(values), len(values), note))
    users, user_rows = _renumbered(cells.user, len(rows.users))
    items, item_rows = _renumbered(cells.item, len(rows.items))
    matrix = InteractionMatrix.from_sorted(
        user_rows,
        item_rows,
        values,
        rows.users.subset(users),
        rows.items.subset(items),
        scale=_scale(rows, how, recipe, values),
        days=cells.days,
        kinds=cells.kinds,
        kind_names=kind_names,
        context=cells.context,
    )
    return Prepared(matrix, steps, LearnedSteps(how, recipe, last, tuple(applied)))


def _kind_names(rows: InteractionRows) -> tuple[str, ...]:
    """Kinds in alphabetical order; none where there are too many to be kept with the cells."""
    if not rows.has("kind"):
        return ()
    names = sorted(name for name in rows.frame["kind"].cast(pl.String).unique().to_list() if name is not None)
    return tuple(names) if len(names) <= MAX_KINDS else ()


def _scale(rows: InteractionRows, how: Preparation, recipe: Recipe, values: np.ndarray) -> tuple[float, float] | None:
    """The scale of explicit values: as declared, or as seen in training where steps changed it or none was declared."""
    if not recipe.values:
        return None
    if rows.scale is not None and _keeps_scale(how, recipe) and not how.transform:
        return rows.scale
    return float(values.min()), float(values.max())


def _keeps_scale(how: Preparation, recipe: Recipe) -> bool:
    """Whether a cell is on the scale of the rows: nothing weighs them, and repeats are not added up or counted."""
    return _as_given(how, recipe) and recipe.merge in ("mean", "max", "latest")


def _bound(rows: InteractionRows, how: Preparation, recipe: Recipe, values: np.ndarray) -> tuple[np.ndarray, str]:
    """Cell values on the declared scale, and what that changed: a version from before the scale bound its rows may hold
    others."""
    if rows.scale is None or not recipe.values or not _keeps_scale(how, recipe):
        return values, ""
    low, high = rows.scale
    outside = int(((values < low) | (values > high)).sum())
    if not outside:
        return values, ""
    return np.clip(values, low, high), f"{outside:,} values outside {low:g} to {high:g} brought to its nearest end"


def _as_given(how: Preparation, recipe: Recipe) -> bool:
    """Whether nothing weighs a value before it is merged."""
    return how.half_life_days is None and not recipe.weighs


def _beyond_scale(rows: InteractionRows, how: Preparation, recipe: Recipe, values: np.ndarray) -> str:
    """That merging took values out of the scale that was declared, where it did."""
    if rows.scale is None or not _as_given(how, recipe) or _keeps_scale(how, recipe) or not recipe.values:
        return ""
    low, high = rows.scale
    beyond = int(((values < low) | (values > high)).sum())
    return f"; cells that left the scale of {low:g} to {high:g}: {beyond:,}" if beyond else ""


def prepare_everything(rows: InteractionRows, how: Preparation) -> Prepared:
    """Every step on every row: what a model for release is fitted on. Raises DataError as the steps do."""
    return prepare(keep_rows(rows, how)[0], how)


def build_matrix(rows: InteractionRows, how: Preparation) -> tuple[InteractionMatrix, list[Step]]:
    """The matrix and the reports of `prepare`."""
    prepared = prepare(rows, how)
    return prepared.matrix, prepared.steps


def history_matrix(rows: InteractionRows, learned: LearnedSteps, items: IdMap) -> InteractionMatrix:
    """Histories of people training never saw, as rows over the items of a training matrix; items it lacks are left
    out. Treated by what training learned: nothing is learned from these rows."""
    if learned.how.half_life_days is not None:
        rows = _decayed(rows, learned.how.half_life_days, learned.last, [])
    cells = merge_repeats(rows, learned.recipe.merge)
    item = map_rows(rows.items, items)[cells.item]
    known = item >= 0
    values = cells.value[known]
    for apply in learned.applied:
        values = apply(values)
    users, user_rows = _renumbered(cells.user[known], len(rows.users))
    return InteractionMatrix.from_cells(user_rows, item[known], values, rows.users.subset(users), items)


def _drop_heavy(rows: InteractionRows, limit: int, steps: list[Step]) -> InteractionRows:
    counts = np.bincount(rows.frame["user"].to_numpy(), minlength=len(rows.users))
    heavy = counts > limit
    kept = rows.with_frame(rows.frame.filter(pl.Series(~heavy[rows.frame["user"].to_numpy()])))
    note = f"{int(heavy.sum()):,} users with more than {limit:,} rows dropped"
    steps.append(Step("drop_users_over", len(rows), len(kept), note))
    if not len(kept):
        raise DataError(f"every user has more than {limit} rows: nothing is left", where="prepare.drop_users_over")
    return kept


def _decayed(rows: InteractionRows, half_life: float, last: datetime | None, steps: list[Step]) -> InteractionRows:
    """measure * 0.5^(age in days / half-life); rows later than `last` keep their full weight."""
    dated = rows.frame.filter(pl.col("time").is_not_null())
    if last is None:
        raise DataError("half_life_days needs times, and no row has one", where="prepare.half_life_days")
    age = ((pl.lit(last) - pl.col("time")).dt.total_microseconds() / 86_400e6).clip(lower_bound=0)
    note = f"halved every {half_life:g} days before {last:%Y-%m-%d %H:%M} UTC"
    if dated.height < len(rows):
        note += f"; {len(rows) - dated.height:,} rows without a time dropped"
    steps.append(Step("half_life_days", len(rows), dated.height, note))
    return rows.with_frame(dated.with_columns(measure=pl.col("measure") * (0.5 ** (age / half_life))))


def core_mask(user: np.ndarray, item: np.ndarray, min_user: int, min_item: int) -> np.ndarray:
    """Mask of the cells in the (min_user, min_item)-core: bool of shape (n_cells,)."""
    keep = np.ones(len(user), dtype=bool)
    while keep.any():
        per_user = np.bincount(user[keep], minlength=int(user.max()) + 1)
        per_item = np.bincount(item[keep], minlength=int(item.max()) + 1)
        still = keep & (per_user[user] >= min_user) & (per_item[item] >= min_item)
        if still.sum() == keep.sum():
            break
        keep = still
    return keep


def _renumbered(codes: np.ndarray, n: int) -> tuple[np.ndarray, np.ndarray]:
    """The codes that occur, ascending, and the row of each entry among them (int32)."""
    present = np.zeros(n, dtype=bool)
    present[codes] = True
    rows = (np.cumsum(present) - 1).astype(np.int32)
    return np.flatnonzero(present), rows[codes]


def _require(rows: InteractionRows, column: str, what: str) -> None:
    if not rows.has(column):
        raise DataError(f"{what} needs a {column} column, and this dataset has none", where=f"prepare.{what}")


def map_rows(source: IdMap, target: IdMap) -> np.ndarray:
    """For every code of `source` its row in `target`: int32 of shape (len(source),), -1 where absent."""
    return target.rows(source.ids.to_pylist())
