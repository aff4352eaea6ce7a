"""From interaction rows to a training matrix, by declared steps, each saying what it did."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import DataError, require_range

Merge = Literal["sum", "count", "max", "mean", "latest"]
Measure = Literal["weights", "values"]


@dataclass(frozen=True)
class Step:
    """What one step did: rows before and after, and why any went."""

    name: str
    rows_in: int
    rows_out: int
    note: str


@dataclass(frozen=True)
class Preparation:
    """The declared steps.

    kinds: weight per kind; kinds not named are dropped. Empty: every kind counts 1.
    use: what a row measures: its kind's weight, or its value (times its kind's weight).
    merge: how repeats of one (user, item) become one cell. `mean` of values; `latest` needs times.
    min_user, min_item: prune users with fewer items, and items with fewer users, until stable (a k-core).
    """

    kinds: dict[str, float] = field(default_factory=dict)
    use: Measure | None = None
    merge: Merge = "sum"
    min_user: int = 1
    min_item: int = 1

    def __post_init__(self) -> None:
        require_range("min_user", self.min_user, 1, whole=True)
        require_range("min_item", self.min_item, 1, whole=True)
        for kind, weight in self.kinds.items():
            require_range(f"kinds.{kind}", weight, 0)


def keep_rows(rows: InteractionRows, how: Preparation) -> tuple[InteractionRows, list[Step]]:
    """The steps that look at one row alone, safe to run before a split: kinds, weights, missing values.

    Adds the column `measure` (float64). Raises DataError when the preparation names what the data lacks.
    """
    steps: list[Step] = []
    frame = rows.frame
    weight: pl.Expr = pl.lit(1.0)
    if how.kinds:
        _require(rows, "kind", "kinds")
        known = set(frame["kind"].unique().to_list())
        unknown = sorted(set(how.kinds) - known)
        if unknown:
            raise DataError(
                f"kind {unknown[0]!r} does not occur; the data has {', '.join(sorted(map(str, known)))}",
                where="prepare.kinds",
            )
        before = frame.height
        frame = frame.filter(pl.col("kind").is_in(list(how.kinds)))
        weight = pl.col("kind").replace_strict(how.kinds, return_dtype=pl.Float64)
        dropped = sorted(str(kind) for kind in known - set(how.kinds))
        steps.append(Step("kinds", before, frame.height, f"dropped: {', '.join(dropped)}" if dropped else "all kept"))
    use = how.use or ("weights" if how.kinds or not rows.has("value") else "values")
    if use == "values":
        _require(rows, "value", "use: values")
        before = frame.height
        frame = frame.filter(pl.col("value").is_not_null())
        note = f"{before - frame.height} rows without a value dropped, not read as zero"
        steps.append(Step("values", before, frame.height, note))
        weight = weight * pl.col("value")
    frame = frame.with_columns(measure=weight)
    return rows.with_frame(frame), steps


def build_matrix(rows: InteractionRows, how: Preparation) -> tuple[InteractionMatrix, list[Step]]:
    """Merge repeats and prune, then number users and items afresh: only ids that are left have a row.

    `rows` come from `keep_rows`, and from the training part only. Raises DataError when nothing is left.
    """
    if not len(rows):
        raise DataError("the training part is empty: no row is left after dropping kinds", where="prepare")
    cells = _merge(rows, how.merge)
    steps = [Step("merge", len(rows), cells.height, f"repeats merged by {how.merge}")]
    user, item = cells["user"].to_numpy(), cells["item"].to_numpy()
    keep = core_mask(user, item, how.min_user, how.min_item)
    if how.min_user > 1 or how.min_item > 1:
        note = f"users with at least {how.min_user} items, items with at least {how.min_item} users, until stable"
        steps.append(Step("prune", len(keep), int(keep.sum()), note))
    if not keep.any():
        raise DataError(
            f"pruning leaves nothing: no user has {how.min_user} items that {how.min_item} users share",
            where="prepare.min_user",
        )
    users, user_rows = np.unique(user[keep], return_inverse=True)
    items, item_rows = np.unique(item[keep], return_inverse=True)
    matrix = InteractionMatrix.from_cells(
        user_rows.astype(np.int32),
        item_rows.astype(np.int32),
        cells["measure"].to_numpy()[keep],
        rows.users.subset(users),
        rows.items.subset(items),
    )
    return matrix, steps


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


def _merge(rows: InteractionRows, merge: Merge) -> pl.DataFrame:
    how = {
        "sum": pl.col("measure").sum(),
        "count": pl.len().cast(pl.Float64).alias("measure"),
        "max": pl.col("measure").max(),
        "mean": pl.col("measure").mean(),
    }
    frame = rows.frame
    if merge == "latest":
        _require(rows, "time", "merge: latest")
        # a stable sort: of two rows at the same moment the later line of the file wins
        frame = frame.sort("time", maintain_order=True, nulls_last=False)
        how["latest"] = pl.col("measure").last()
        return frame.group_by("user", "item", maintain_order=True).agg(how[merge])
    return frame.group_by("user", "item").agg(how[merge]).sort("user", "item")


def _require(rows: InteractionRows, column: str, what: str) -> None:
    if not rows.has(column):
        raise DataError(f"{what} needs a {column} column, and this dataset has none", where=f"prepare.{what}")


def map_rows(source: IdMap, target: IdMap) -> np.ndarray:
    """For every code of `source` its row in `target`: int32 of shape (len(source),), -1 where absent."""
    return target.rows(source.ids.to_pylist())
