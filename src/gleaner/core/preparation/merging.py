"""Repeats of one user and item become one cell."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import polars as pl

from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import DataError
from gleaner.core.kernels import ordering
from gleaner.core.parallel import balanced_ranges, run_ranges

GROUPS_AT_ONCE = 64
MAX_KINDS = 64
"""Kinds of a cell are kept as bits of one whole number."""
Merge = Literal["sum", "count", "max", "mean", "latest"]


@dataclass(frozen=True, eq=False)
class Cells:
    """One entry per (user, item) pair, ordered by user, then item: codes, and float64 values."""

    user: np.ndarray
    item: np.ndarray
    value: np.ndarray
    days: np.ndarray | None = None
    kinds: np.ndarray | None = None
    context: pl.DataFrame | None = None

    def keep(self, mask: np.ndarray) -> Cells:
        """The cells of a mask."""
        places = np.flatnonzero(mask)
        more: list[Any] = [None if part is None else part[places] for part in (self.days, self.kinds, self.context)]
        return Cells(self.user[mask], self.item[mask], self.value[mask], *more)


def merge_repeats(rows: InteractionRows, merge: Merge, kind_names: tuple[str, ...] = ()) -> Cells:
    """One cell for each user and item, by user and then item. `rows` have the column `measure`.

    Raises DataError where `latest` is asked of rows without times.
    """
    frame = rows.frame
    user, item = frame["user"].to_numpy(), frame["item"].to_numpy()
    # 32-bit places halve what the scattered writes below move
    width = np.int32 if len(user) < 2**31 else np.int64
    order = np.arange(len(user), dtype=width)
    if merge == "latest":
        if not rows.has("time"):
            text = "merge: latest needs a time column, and this dataset has none"
            raise DataError(text, where="prepare.merge: latest")
        # stable: of two rows at the same moment the later line of the file wins; undated rows come first
        order = np.argsort(
            frame["time"].dt.timestamp("us").fill_null(np.iinfo(np.int64).min).to_numpy(), kind="stable"
        ).astype(width)
    starts = np.concatenate([[0], np.cumsum(np.bincount(user, minlength=len(rows.users)))]).astype(np.int64)
    by_user = np.empty_like(order)
    ordering.bucket(user, starts, order, by_user)
    order = by_user

    def work(lo: int, hi: int) -> None:
        ordering.order_groups(lo, hi, starts, item, order)

    run_ranges(work, balanced_ranges(starts, GROUPS_AT_ONCE))
    user, item, measure = user[order], item[order], frame["measure"].to_numpy()[order]
    fresh = np.ones(len(user), dtype=bool)
    fresh[1:] = (user[1:] != user[:-1]) | (item[1:] != item[:-1])
    starts = np.flatnonzero(fresh)
    days = kinds = None
    if rows.has("time"):
        moment = frame["time"].dt.timestamp("us").cast(pl.Float64).fill_null(float("nan")).to_numpy() / 86_400e6
        days = np.fmax.reduceat(moment[order], starts)
    if kind_names:
        bits = frame["kind"].cast(pl.String).replace_strict(
            {name: np.uint64(1 << place) for place, name in enumerate(kind_names)}, default=0, return_dtype=pl.UInt64
        )  # fmt: skip
        kinds = np.bitwise_or.reduceat(bits.to_numpy()[order], starts)
    context = rows.context
    if context is not None:
        # of what was kept beside several rows of a cell, that of the last one, in the order of the file or of `latest`
        context = context[order[np.append(starts[1:], len(order)) - 1]]
    return Cells(user[starts], item[starts], _merged(measure, starts, merge), days, kinds, context)


def _merged(measure: np.ndarray, starts: np.ndarray, merge: Merge) -> np.ndarray:
    """One value for each stretch of rows that begins at `starts`."""
    counts = np.diff(np.append(starts, len(measure)))
    if merge == "count":
        return counts.astype(np.float64)
    if merge == "max":
        return np.maximum.reduceat(measure, starts)
    if merge == "latest":
        return measure[starts + counts - 1]
    sums = np.add.reduceat(measure, starts)
    return sums / counts if merge == "mean" else sums
