"""Dividing rows into training, validation and test."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.prepare import map_rows
from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import DataError, require_range


@dataclass(frozen=True)
class TimeSplit:
    """Cut at moments that hold for everyone: the last `test` share of rows is test, the share before it validation."""

    test: float = 0.1
    validation: float = 0.1

    def __post_init__(self) -> None:
        require_range("split.test", self.test, 0.001, 0.9)
        require_range("split.validation", self.validation, 0.0, 0.9)
        if self.test + self.validation >= 1:
            raise DataError(
                f"test {self.test:g} and validation {self.validation:g} leave nothing to train on",
                where="split",
            )


@dataclass(frozen=True, eq=False)
class Parts:
    """The three parts, and the moments (UTC) at which they were cut. Rows at a moment fall after it."""

    train: InteractionRows
    validation: InteractionRows
    test: InteractionRows
    validation_from: datetime | None
    test_from: datetime
    undated: int

    def train_and_validation(self) -> InteractionRows:
        """Everything before the test moment, for the final fit."""
        return self.train.with_frame(pl.concat([self.train.frame, self.validation.frame]))


def split_by_time(rows: InteractionRows, how: TimeSplit) -> Parts:
    """Split at two moments. Every row before a moment is on its early side: no part sees what came later.

    Rows without a time belong to no part and are counted. Raises DataError when there is no time column or a part
    would be empty (as when all rows have the same time).
    """
    if not rows.has("time"):
        raise DataError("a split by time needs a time column, and this dataset has none", where="split.by")
    dated = rows.frame.filter(pl.col("time").is_not_null())
    undated = len(rows) - dated.height
    if dated.height == 0:
        raise DataError("a split by time needs times, and no row has one", where="split.by")
    stamps = dated["time"].dt.timestamp("us").to_numpy()
    test_from = _moment(stamps, how.test)
    validation_from = _moment(stamps, how.test + how.validation)
    early, late = stamps < validation_from, stamps >= test_from
    middle = ~early & ~late
    if not early.any() or (how.validation > 0 and not middle.any()):
        raise DataError("too many rows share one moment: a part of the split by time would be empty", where="split")
    return Parts(
        train=rows.with_frame(dated.filter(pl.Series(early))),
        validation=rows.with_frame(dated.filter(pl.Series(middle))),
        test=rows.with_frame(dated.filter(pl.Series(late))),
        validation_from=_utc(validation_from) if how.validation > 0 else None,
        test_from=_utc(test_from),
        undated=undated,
    )


def _moment(stamps: np.ndarray, share: float) -> int:
    """The stamp of the row at which the last `share` of rows begins."""
    at = min(len(stamps) - 1, round(len(stamps) * (1 - share)))
    return int(np.partition(stamps, at)[at])


def _utc(stamp: int) -> datetime:
    return datetime.fromtimestamp(stamp / 1e6, tz=UTC)


@dataclass(frozen=True, eq=False)
class Truth:
    """What a held-out part says is relevant, in the rows of a training matrix.

    user_rows: int32 of shape (n,), users with at least one relevant item. indptr int64 of shape (n + 1,) and
    indices int32: their relevant items, ascending. The counts say what was left out and why.
    """

    user_rows: np.ndarray
    indptr: np.ndarray
    indices: np.ndarray
    unseen_users: int
    unseen_items: int
    known_pairs: int


def truth_of(part: InteractionRows, train: InteractionMatrix) -> Truth:
    """Distinct (user, item) pairs of a held-out part that a model of `train` could recommend.

    Left out and counted: users and items that training never saw, and pairs already in training (they are not
    candidates). The same rule for every contender.
    """
    pairs = part.frame.select("user", "item").unique().sort("user", "item")
    user = map_rows(part.users, train.users)[pairs["user"].to_numpy()]
    item = map_rows(part.items, train.items)[pairs["item"].to_numpy()]
    unseen_users = int(pairs.filter(pl.Series(user < 0))["user"].n_unique())
    unseen_items = int(pairs.filter(pl.Series(item < 0))["item"].n_unique())
    both = (user >= 0) & (item >= 0)
    user, item = user[both].astype(np.int64), item[both].astype(np.int64)
    n_items = len(train.items)
    seen = np.repeat(np.arange(len(train.users), dtype=np.int64), np.diff(train.indptr)) * n_items + train.indices
    cells = np.unique(user * n_items + item)
    fresh = cells[~np.isin(cells, seen)]
    rows, counts = np.unique(fresh // n_items, return_counts=True)
    return Truth(
        user_rows=rows.astype(np.int32),
        indptr=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        indices=(fresh % n_items).astype(np.int32),
        unseen_users=unseen_users,
        unseen_items=unseen_items,
        known_pairs=len(cells) - len(fresh),
    )
