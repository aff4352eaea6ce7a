"""Dividing rows into training, validation and test. Every rule is one function of rows and a seed.

time       at moments that hold for everyone, with an optional gap before each
rows       a random share of all rows
user_rows  a random share of each user's rows
last       the last n rows of each user
users      whole users, with a part of their history shown
items      whole items, of which training sees nothing
given      as the files were split beforehand
folds      k disjoint random parts, each the test part once
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Literal

import numpy as np
import polars as pl

from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import DataError, ParameterError, require_range

Rule = Literal["time", "rows", "user_rows", "last", "users", "items", "given", "folds"]
RULES: tuple[Rule, ...] = ("time", "rows", "user_rows", "last", "users", "items", "given", "folds")
Side = Literal["users", "items"]
TRAIN, VALIDATION, TEST, NONE = 0, 1, 2, 3


@dataclass(frozen=True)
class Split:
    """How to divide.

    test, validation: shares of rows (of each user's rows, of users, of items); for `last` the number of rows of each
    user.
    test_from: for `time`, the moment itself instead of a share. gap_days: for `time`, rows in so many days before
    each moment belong to no part. show: for `users`, the share of a held-out user's rows that is shown, the earliest
    where there are times. folds: their number. keep: "users", "items", who and what training never saw and is judged
    all the same. seed: of every random choice.
    """

    by: Rule = "time"
    test: float = 0.1
    validation: float = 0.1
    test_from: datetime | None = None
    gap_days: float = 0.0
    show: float = 0.5
    folds: int = 5
    keep: tuple[Side, ...] = ()
    seed: int = 1

    def __post_init__(self) -> None:
        if self.by not in RULES:
            raise ParameterError(f"split.by must be one of {', '.join(RULES)}, not {self.by!r}", where="split.by")
        require_range("split.gap_days", self.gap_days, 0)
        require_range("split.show", self.show, 0.01, 0.99)
        require_range("split.folds", self.folds, 2, 50, whole=True)
        for side in self.keep:
            if side not in ("users", "items"):
                raise ParameterError(f"split.keep holds users and items, not {side!r}", where="split.keep")
        if self.by == "users" and "users" in self.keep:
            raise ParameterError("a split by users shows a part of whom it holds out", where="split.keep")
        if self.by == "last":
            require_range("split.test", self.test, 1, whole=True)
            require_range("split.validation", self.validation, 0, whole=True)
        elif self.by != "given":
            require_range("split.test", self.test, 0.001, 0.9)
            require_range("split.validation", self.validation, 0.0, 0.9)
            if self.by != "folds" and self.test + self.validation >= 1:
                raise DataError(
                    f"test {self.test:g} and validation {self.validation:g} leave nothing to train on", where="split"
                )


@dataclass(frozen=True, eq=False)
class Parts:
    """The three parts. Moments (UTC) where time cut them: rows at a moment fall after it.

    shown_validation, shown_test: the histories of users who were held out whole. left_out: rows of no part, and why.
    """

    train: InteractionRows
    validation: InteractionRows
    test: InteractionRows
    validation_from: datetime | None = None
    test_from: datetime | None = None
    shown_validation: InteractionRows | None = None
    shown_test: InteractionRows | None = None
    left_out: dict[str, int] = field(default_factory=dict)

    def train_and_validation(self) -> InteractionRows:
        """Everything but what is held out for the test, for the final fit."""
        frames = [self.train.frame, self.validation.frame]
        if self.shown_validation is not None:
            frames.append(self.shown_validation.frame)
        return self.train.with_frame(pl.concat(frames))


def _emptiness_hint(rows: InteractionRows, how: Split) -> str:
    """What of the data leaves a part empty, where it can be said."""
    if how.by != "last":
        return ""
    most = int(np.bincount(rows.frame["user"].to_numpy()).max(initial=0))
    return f": it takes more rows than `test` and `validation` together, and no user has more than {most:,}"


def split(rows: InteractionRows, how: Split) -> Parts:
    """Divide by any rule but `folds`. Raises DataError when the data lacks what the rule needs, or when the training
    or test part would be empty."""
    if how.by == "folds":
        raise ParameterError("a split by folds gives several; ask for them with split_folds", where="split.by")
    parts = _SPLITTERS[how.by](rows, how)
    for name, part in (("training", parts.train), ("test", parts.test)):
        if not len(part):
            raise DataError(
                f"the {name} part of the split by {how.by} would be empty{_emptiness_hint(rows, how)}", where="split"
            )
    if how.by != "given" and how.validation > 0 and not len(parts.validation):
        raise DataError(f"the validation part of the split by {how.by} would be empty", where="split.validation")
    return parts


def split_folds(rows: InteractionRows, how: Split) -> list[Parts]:
    """k divisions: every row is in the test part of exactly one. Validation is a random share of the other rows."""
    if len(rows) < how.folds:
        raise DataError(f"{len(rows)} rows cannot make {how.folds} folds", where="split.folds")
    random = np.random.default_rng(how.seed)
    order = random.permutation(len(rows))
    fold = np.empty(len(rows), dtype=np.int8)
    fold[order] = np.arange(len(rows)) % how.folds
    inner = random.random(len(rows)) < how.validation
    return [_cut(rows, np.where(fold == k, TEST, np.where(inner, VALIDATION, TRAIN))) for k in range(how.folds)]


def _cut(rows: InteractionRows, part: np.ndarray, **more: object) -> Parts:
    """Parts by a code per row."""
    frames = [rows.with_frame(rows.frame.filter(pl.Series(part == code))) for code in (TRAIN, VALIDATION, TEST)]
    return Parts(*frames, **more)  # type: ignore[arg-type]


def _by_time(rows: InteractionRows, how: Split) -> Parts:
    if not rows.has("time"):
        raise DataError("a split by time needs a time column, and this dataset has none", where="split.by")
    dated = rows.with_frame(rows.frame.filter(pl.col("time").is_not_null()))
    if not len(dated):
        raise DataError("a split by time needs times, and no row has one", where="split.by")
    stamps = dated.frame["time"].dt.timestamp("us").to_numpy()
    test_from, test_share = _moment(stamps, how.test), how.test
    if how.test_from is not None:
        test_from = round(how.test_from.timestamp() * 1e6)
        test_share = float((stamps >= test_from).mean())
        if not 0 < test_share < 1:
            raise DataError(
                f"test_from {how.test_from:%Y-%m-%d} leaves {'nothing to test' if test_share == 0 else 'no training'}; "
                f"the rows run from {_utc(stamps.min()):%Y-%m-%d} to {_utc(stamps.max()):%Y-%m-%d}",
                where="split.test_from",
            )
    share = test_share + how.validation
    if share >= 1:
        raise DataError("the test and validation parts leave nothing to train on", where="split")
    validation_from = _moment(stamps, share) if how.validation > 0 else test_from
    gap = round(timedelta(days=how.gap_days).total_seconds() * 1e6)
    part = np.full(len(stamps), NONE, dtype=np.int8)
    part[stamps < validation_from - gap] = TRAIN
    part[(stamps >= validation_from) & (stamps < test_from - gap)] = VALIDATION
    part[stamps >= test_from] = TEST
    if not (part == TRAIN).any() or (how.validation > 0 and not (part == VALIDATION).any()):
        why = f"the gap of {how.gap_days:g} days swallows it" if gap else "too many rows share one moment"
        raise DataError(f"{why}: a part of the split by time would be empty", where="split")
    left_out = {"without a time": len(rows) - len(dated), "in a gap": int((part == NONE).sum())}
    return _cut(
        dated,
        part,
        validation_from=_utc(validation_from) if how.validation > 0 else None,
        test_from=_utc(test_from),
        left_out={why: n for why, n in left_out.items() if n},
    )


def _by_rows(rows: InteractionRows, how: Split) -> Parts:
    order = np.random.default_rng(how.seed).permutation(len(rows))
    part = np.zeros(len(rows), dtype=np.int8)
    n_test, n_validation = round(len(rows) * how.test), round(len(rows) * how.validation)
    part[order[:n_test]] = TEST
    part[order[n_test : n_test + n_validation]] = VALIDATION
    return _cut(rows, part)


def _places(user: np.ndarray, key: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """For every row its place (0 the first) among its user's rows in the order of `key`, and the user's row count."""
    order = np.lexsort((key, user))
    counts = np.bincount(user)
    starts = np.cumsum(counts) - counts
    places = np.empty(len(user), dtype=np.int64)
    places[order] = np.arange(len(user)) - starts[user[order]]
    return places, counts[user]


def _by_user_rows(rows: InteractionRows, how: Split) -> Parts:
    user = rows.frame["user"].to_numpy()
    places, counts = _places(user, np.random.default_rng(how.seed).random(len(user)))
    n_test = np.minimum(np.round(counts * how.test), counts - 1)
    n_validation = np.minimum(np.round(counts * how.validation), counts - 1 - n_test)
    return _cut(rows, np.where(places < n_test, TEST, np.where(places < n_test + n_validation, VALIDATION, TRAIN)))


def _by_last(rows: InteractionRows, how: Split) -> Parts:
    if not rows.has("time"):
        raise DataError("the last rows of a user need a time column, and this dataset has none", where="split.by")
    dated = rows.with_frame(rows.frame.filter(pl.col("time").is_not_null()))
    if not len(dated):
        raise DataError("the last rows of a user need times, and no row has one", where="split.by")
    places, counts = _places(dated.frame["user"].to_numpy(), dated.frame["time"].dt.timestamp("us").to_numpy())
    from_end = counts - places
    held_out = how.test + how.validation
    part = np.where(from_end <= how.test, TEST, np.where(from_end <= held_out, VALIDATION, TRAIN))
    # a user with no row left to learn from stays in training whole
    part[counts <= held_out] = TRAIN
    undated = len(rows) - len(dated)
    return _cut(dated, part, left_out={"without a time": undated} if undated else {})


def _by_users(rows: InteractionRows, how: Split) -> Parts:
    user = rows.frame["user"].to_numpy()
    random = np.random.default_rng(how.seed)
    present = np.unique(user)
    drawn = random.permutation(present)
    n_test, n_validation = max(1, round(len(present) * how.test)), round(len(present) * how.validation)
    group = np.zeros(len(rows.users), dtype=np.int8)
    group[drawn[:n_test]] = TEST
    group[drawn[n_test : n_test + n_validation]] = VALIDATION
    key = (
        rows.frame["time"].dt.timestamp("us").fill_null(0).to_numpy() if rows.has("time") else random.random(len(user))
    )
    places, counts = _places(user, key)
    shown = places < np.maximum(1, np.floor(counts * how.show))
    of_row = group[user]
    take = {
        code: rows.with_frame(rows.frame.filter(pl.Series((of_row == code) & shown))) for code in (VALIDATION, TEST)
    }
    part = np.where(of_row == TRAIN, TRAIN, np.where(shown, NONE, of_row))
    has_validation = n_validation > 0
    return _cut(rows, part, shown_test=take[TEST], shown_validation=take[VALIDATION] if has_validation else None)


def _by_items(rows: InteractionRows, how: Split) -> Parts:
    item = rows.frame["item"].to_numpy()
    drawn = np.random.default_rng(how.seed).permutation(np.unique(item))
    n_test, n_validation = max(1, round(len(drawn) * how.test)), round(len(drawn) * how.validation)
    group = np.zeros(len(rows.items), dtype=np.int8)
    group[drawn[:n_test]] = TEST
    group[drawn[n_test : n_test + n_validation]] = VALIDATION
    return _cut(rows, group[item])


def _given(rows: InteractionRows, how: Split) -> Parts:
    if not rows.has("part"):
        raise DataError(
            "this dataset was not imported as files split beforehand; name another rule, such as by: time",
            where="split.by",
        )
    codes = {"training": TRAIN, "validation": VALIDATION, "test": TEST}
    part = rows.frame["part"].cast(pl.String).replace_strict(codes, return_dtype=pl.Int8).to_numpy()
    return _cut(rows, part)


_SPLITTERS: dict[str, Callable[[InteractionRows, Split], Parts]] = {
    "time": _by_time,
    "rows": _by_rows,
    "user_rows": _by_user_rows,
    "last": _by_last,
    "users": _by_users,
    "items": _by_items,
    "given": _given,
}


def _moment(stamps: np.ndarray, share: float) -> int:
    """The stamp of the row at which the last `share` of rows begins."""
    at = min(len(stamps) - 1, round(len(stamps) * (1 - share)))
    return int(np.partition(stamps, at)[at])


def _utc(stamp: float) -> datetime:
    return datetime.fromtimestamp(float(stamp) / 1e6, tz=UTC)
