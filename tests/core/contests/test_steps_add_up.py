"""Every step of a contest's preparation begins with the rows that the step before it left, and says where others went."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl
import pytest

from gleaner.core.contests.parts import divide
from gleaner.core.data.rows import InteractionRows
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split

START = datetime(2026, 1, 1, tzinfo=UTC)


def world() -> InteractionRows:
    """4,000 rows of 120 users, with repeats, a missing time in 50, three kinds and missing values."""
    draw = np.random.default_rng(3)
    n = 4000
    frame = pl.DataFrame(
        {
            "user": [f"u{each}" for each in draw.integers(0, 120, n)],
            "item": [f"i{each}" for each in draw.zipf(1.4, n) % 70],
            "kind": draw.choice(["view", "save", "request"], n),
            "value": [None if each < 0.1 else float(round(1 + 4 * each)) for each in draw.random(n)],
            "time": [None if each % 50 == 0 else START + timedelta(hours=each) for each in range(n)],
        }
    )
    return InteractionRows.from_arrow(frame.to_arrow())


@pytest.mark.parametrize(
    ("rule", "how"),
    [
        (Split(by="time", test=0.2, validation=0.1), {}),
        (Split(by="time", test=0.2, validation=0.1, gap_days=2), {"kinds": {"save": 1.0, "request": 2.0}}),
        (Split(by="rows", test=0.2, validation=0.1), {"use": "values", "drop_users_over": 45}),
        (Split(by="user_rows", test=0.2, validation=0.1), {"like_from": 3.0, "min_user": 4, "min_item": 3}),
        (Split(by="last", test=1, validation=1), {"last_days": 100, "half_life_days": 30}),
        (Split(by="users", test=0.2, validation=0.1), {"drop_kinds": ("view",)}),
        (Split(by="items", test=0.2, validation=0.1), {}),
        (Split(by="folds", folds=3), {"min_user": 8}),
    ],
)
def test_each_step_begins_with_what_the_one_before_left(rule, how):
    rows = world()
    parts = divide(rows, Preparation(**how), rule, lambda done, text: None)
    n = len(rows)
    for step in parts.steps:
        assert step.rows_in == n, step
        n = step.rows_out
    assert n == len(parts.final.indices)
    for step in parts.steps:
        if step.name in ("split", "merge") and step.rows_in > step.rows_out:
            said = sum(int(each.replace(",", "")) for each in re.findall(r"([\d,]+) rows", step.note))
            assert said == step.rows_in - step.rows_out, step
