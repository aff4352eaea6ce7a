"""What to train on and what to judge by."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

import polars as pl

from gleaner.core.contests.parts import ContestParts, ScoredPart, SplitStage, divide
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import DataError
from gleaner.core.notebook import html_table
from gleaner.core.preparation.merging import Merge
from gleaner.core.preparation.prepare import prepare_everything
from gleaner.core.preparation.recipe import Measure, Preparation
from gleaner.core.preparation.transforms import Transform
from gleaner.core.splits.split import Rule, Side, Split
from gleaner.core.splits.truth import Truth


@dataclass(frozen=True, eq=False)
class SplitParts:
    """What to train on and what to judge by: models of `train` on validation, models of `whole`, which is training and
    validation together, on test. parts: the same as the engine of contests knows it."""

    parts: ContestParts
    seed: int

    @property
    def train(self) -> InteractionMatrix:
        """What models are fitted on to be judged on validation."""
        return self.parts.stages[0].train

    @property
    def validation(self) -> Truth:
        """What is relevant of the validation part."""
        return self._stage("validation").truth

    @property
    def whole(self) -> InteractionMatrix:
        """What models are fitted on to be judged on test: training and validation together."""
        return self.parts.stages[-1].train

    @property
    def test(self) -> Truth:
        """What is relevant of the test part."""
        return self._stage("test").truth

    def _stage(self, part: ScoredPart) -> SplitStage:
        stage = self.parts.stage(part)
        if stage is None:
            raise DataError(f"the {part} part is empty", where=part)
        return stage

    def _facts(self) -> pl.DataFrame:
        """A row for each part that is scored."""
        rows = [
            {
                "part": stage.part if stage.fold is None else f"{stage.part}, fold {stage.fold}",
                "training cells": stage.train.n_cells,
                "users": stage.train.shape[0],
                "items": stage.train.shape[1],
                "held-out items": len(stage.truth.indices),
                "of users": len(stage.truth.user_rows),
            }
            for stage in self.parts.stages
        ]
        return pl.DataFrame(rows)

    def __repr__(self) -> str:
        lines = [
            f"  {part}: {cells:,} training cells ({users:,} users x {items:,} items), {held_out:,} held-out items of "
            f"{of_users:,} users"
            for part, cells, users, items, held_out, of_users in self._facts().iter_rows()
        ]
        return "\n".join(["Parts", *lines])

    def _repr_html_(self) -> str:
        return html_table(self._facts())


def split(
    rows: InteractionRows,
    *,
    by: Rule = "time",
    test: float = 0.1,
    validation: float = 0.1,
    test_from: datetime | None = None,
    gap_days: float = 0.0,
    show: float = 0.5,
    folds: int = 5,
    keep: Sequence[Side] = (),
    seed: int = 1,
    kinds: Mapping[str, float] | None = None,
    drop_kinds: Sequence[str] = (),
    since: datetime | None = None,
    until: datetime | None = None,
    last_days: float | None = None,
    use: Measure | None = None,
    like_from: float | None = None,
    drop_users_over: int | None = None,
    half_life_days: float | None = None,
    merge: Merge | None = None,
    transform: Sequence[Transform] = (),
    min_user: int = 1,
    min_item: int = 1,
) -> SplitParts:
    """Prepare and divide. Whatever a step learns it learns from training rows. Raises DataError and ParameterError.

    by: `time`, `rows`, `user_rows`, `last`, `users` (whole users held out), `items` (whole items), `folds`, or `given`
    for frames that were split beforehand. test, validation: shares of rows, of each user's rows, of users or of items;
    for `last` the number of rows of each user. test_from: for `time`, the moment itself. gap_days: for `time`, rows in
    so many days before each moment belong to no part. show: for `users`, the share of a held-out user's rows that a
    model is shown, the earliest where there are times. folds: how many, each the test part once. keep: "users",
    "items", who and what training never saw and is judged all the same, by columns where a model looks at any. seed: of
    every random choice.

    Before the split, on all rows. kinds: the weight of each kind; kinds not named are dropped; none given: each row
    counts 1. drop_kinds: all but these. since, until, last_days: rows kept by time. use: what a row measures, `weights`
    or `values`. like_from: a row with at least this value counts its kind's weight, any other is dropped.

    After it, on training rows. drop_users_over: users with more rows are dropped (robots). half_life_days: a row weighs
    half as much for every so many days before the last one. merge: how repeats of a user and an item become one, `sum`,
    `mean`, `max`, `latest` or another of `Merge`; left out, weights are summed and values averaged. transform: steps on
    values, in order. min_user, min_item: users with fewer items and items with fewer users are dropped until none is.
    """
    rule = Split(by, test, validation, test_from, gap_days, show, folds, tuple(keep), seed)
    preparation = Preparation(
        kinds=dict(kinds or {}),
        drop_kinds=list(drop_kinds),
        since=since,
        until=until,
        last_days=last_days,
        use=use,
        like_from=like_from,
        drop_users_over=drop_users_over,
        half_life_days=half_life_days,
        merge=merge,
        transform=tuple(transform),
        min_user=min_user,
        min_item=min_item,
    )
    return SplitParts(divide(rows, preparation, rule, lambda done, message: None), seed)


def matrix(
    rows: InteractionRows,
    *,
    kinds: Mapping[str, float] | None = None,
    drop_kinds: Sequence[str] = (),
    since: datetime | None = None,
    until: datetime | None = None,
    last_days: float | None = None,
    use: Measure | None = None,
    like_from: float | None = None,
    drop_users_over: int | None = None,
    half_life_days: float | None = None,
    merge: Merge | None = None,
    transform: Sequence[Transform] = (),
    min_user: int = 1,
    min_item: int = 1,
) -> InteractionMatrix:
    """A training matrix of all rows, for release. The steps are those of `split`."""
    preparation = Preparation(
        kinds=dict(kinds or {}),
        drop_kinds=list(drop_kinds),
        since=since,
        until=until,
        last_days=last_days,
        use=use,
        like_from=like_from,
        drop_users_over=drop_users_over,
        half_life_days=half_life_days,
        merge=merge,
        transform=tuple(transform),
        min_user=min_user,
        min_item=min_item,
    )
    return prepare_everything(rows, preparation).matrix
