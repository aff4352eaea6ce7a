"""Cells that a training matrix lacks, by a naive twin."""

from __future__ import annotations

from collections import defaultdict
from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.untrained_cells import UntrainedLookup
from gleaner.core.preparation.prepare import keep_rows, prepare, prepare_everything
from gleaner.core.preparation.pruning import count_pruned
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.preparation.transforms import Transform
from gleaner.core.preparation.untrained import trains_on_every_cell, untrained_cells

FIRST = datetime(2026, 3, 1, tzinfo=UTC)
Row = tuple[str, str, str, float | None, int]
"""User, item, kind, value, day."""


def rows_of(rows: list[Row]) -> InteractionRows:
    table = pa.table(
        {
            "user": [row[0] for row in rows],
            "item": [row[1] for row in rows],
            "kind": [row[2] for row in rows],
            "value": pa.array([row[3] for row in rows], pa.float64()),
            "time": pa.array([FIRST + timedelta(days=row[4]) for row in rows], pa.timestamp("us", "UTC")),
        }
    )
    return InteractionRows.from_arrow(table)


def by_user(cells, train_items) -> dict[str, dict[str, float]]:
    lookup, found = UntrainedLookup(lambda: cells), defaultdict(dict)
    for user in cells.users.ids.to_pylist():
        history = lookup.history(user, train_items)
        assert (np.diff(history.rows) > 0).all()
        for item, value in zip(train_items.take(history.rows), history.values.tolist(), strict=True):
            found[user][item] = value
    return dict(found)


def test_pruned_users_keep_their_cells():
    rows = [(f"u{user}", item, "save", None, 0) for user in range(3) for item in "abc"]
    rows += [("few", "a", "save", None, 1), ("few", "a", "save", None, 2), ("few", "b", "view", None, 1)]
    how = Preparation(kinds={"save": 2.0}, min_user=2)
    data = rows_of(rows)
    train = prepare_everything(data, how).matrix
    assert "few" not in train.users.ids.to_pylist()
    cells = untrained_cells(data, how, train)
    assert by_user(cells, train.items) == {"few": {"a": 4.0}}


def test_items_that_were_pruned_are_no_cells_of_the_model():
    rows = [(f"u{user}", item, "save", None, 0) for user in range(3) for item in "abc"] + [("u0", "rare", "save", 1, 0)]
    how, data = Preparation(use="weights", min_item=2), rows_of(rows)
    train = prepare_everything(data, how).matrix
    cells = untrained_cells(data, how, train)
    assert cells.n_cells == 1
    assert by_user(cells, train.items) == {"u0": {}} or not by_user(cells, train.items)
    assert cells.users_with("rare") == ["u0"]
    assert cells.users_with("a") == cells.users_with("nowhere") == []


def test_dropped_values_leave_the_item_known_without_a_value():
    rows = [("u0", "a", "rate", 5.0, 0), ("u0", "b", "rate", 1.0, 0), ("u1", "b", "rate", 4.0, 0)]
    rows += [("u1", "a", "rate", None, 0)]
    how, data = Preparation(like_from=3), rows_of(rows)
    train = prepare_everything(data, how).matrix
    lookup = UntrainedLookup(lambda: untrained_cells(data, how, train))
    for user, item in (("u0", "b"), ("u1", "a")):
        history = lookup.history(user, train.items)
        assert train.items.take(history.rows) == [item]
        assert np.isnan(history.values).all()
        assert not history.is_counted.any()


def test_rows_outside_the_window_count_only_for_users_who_have_no_others():
    rows = [("new", "a", "save", None, 30), ("new", "b", "save", None, 1), ("old", "a", "save", None, 1)]
    rows += [("new2", "b", "save", None, 30)]
    how, data = Preparation(use="weights", last_days=10), rows_of(rows)
    train = prepare_everything(data, how).matrix
    cells = by_user(untrained_cells(data, how, train), train.items)
    assert cells["old"] == {"a": 1.0}
    assert list(cells["new"]) == ["b"]
    assert np.isnan(cells["new"]["b"])


def test_old_rows_weigh_less_by_their_age_at_the_last_training_row():
    rows = [(f"u{user}", item, "save", None, 20) for user in range(3) for item in "ab"] + [("few", "a", "save", 1, 10)]
    how, data = Preparation(use="weights", half_life_days=5, min_user=2), rows_of(rows)
    train = prepare_everything(data, how).matrix
    assert by_user(untrained_cells(data, how, train), train.items) == {"few": {"a": 0.25}}


def test_after_a_transform_every_cell_is_a_typical_one():
    rows = [(f"u{user}", item, "save", None, 0) for user in range(3) for item in "ab"] + [("few", "a", "save", 1, 0)]
    how = Preparation(use="weights", min_user=2, transform=(Transform("confidence", (40.0,)),))
    data = rows_of(rows)
    train = prepare_everything(data, how).matrix
    cells = by_user(untrained_cells(data, how, train), train.items)
    assert cells == {"few": {"a": pytest.approx(float(np.median(train.values)))}}


CELL = st.tuples(
    st.sampled_from(["u0", "u1", "u2", "u3"]),
    st.sampled_from(["a", "b", "c", "d"]),
    st.sampled_from(["save", "view", "grown"]),
    st.sampled_from([None, 1.0, 2.0, 5.0]),
    st.integers(0, 5),
)


@settings(max_examples=60, deadline=None)
@given(rows=st.lists(CELL, min_size=6, max_size=40), share=st.integers(1, 4), drop=st.booleans())
def test_training_and_untrained_cells_are_all_pairs_of_the_kinds_kept(rows, share, drop):
    how = Preparation(drop_kinds=["view"] if drop and any(row[2] == "view" for row in rows) else [], use="weights")
    data = rows_of(rows)
    kept, _ = keep_rows(data, how)
    part = kept.with_frame(kept.frame[: max(1, len(kept) // share)]) if len(kept) else kept
    if not len(part):
        return
    train = prepare(part, how).matrix
    cells = untrained_cells(data, how, train)
    pairs = {(user, item) for user, item, kind, _, _ in rows if kind not in how.drop_kinds}
    users, items = train.users.take(train.user_rows), train.items.take(train.indices)
    trained = set(zip(users, items, strict=True))
    counted = np.repeat(np.arange(len(cells.users)), np.diff(cells.indptr))
    untrained = set(zip(cells.users.take(counted), cells.items.take(cells.indices), strict=True))
    assert untrained == pairs - trained
    weights = defaultdict(float)
    for user, item, kind, _, _ in rows:
        if kind not in how.drop_kinds:
            weights[user, item] += 1.0
    values = dict(
        zip(
            zip(cells.users.take(counted), cells.items.take(cells.indices), strict=True),
            cells.values.tolist(),
            strict=True,
        )
    )
    assert values == {pair: weights[pair] for pair in untrained}
    assert isinstance(cells.days, np.ndarray)
    assert pl.Series(cells.indptr).is_sorted()


@settings(max_examples=60, deadline=None)
@given(
    rows=st.lists(CELL, min_size=1, max_size=40),
    min_user=st.integers(1, 3),
    min_item=st.integers(1, 3),
    most=st.one_of(st.none(), st.integers(1, 12)),
)
def test_what_is_pruned_is_counted(rows, min_user, min_item, most):
    how = Preparation(use="weights", min_user=min_user, min_item=min_item, drop_users_over=most)
    light = [row for row in rows if most is None or sum(other[0] == row[0] for other in rows) <= most]
    pairs, before = {row[:2] for row in light}, None
    while pairs != before:
        before = pairs
        users, items = [{pair[side] for pair in pairs} for side in (0, 1)]
        few = {user for user in users if sum(pair[0] == user for pair in pairs) < min_user}
        rare = {item for item in items if sum(pair[1] == item for pair in pairs) < min_item}
        pairs = {pair for pair in pairs if pair[0] not in few and pair[1] not in rare}
    pruned = count_pruned(rows_of(rows), how)
    assert pruned.users == len({row[0] for row in rows}) - len({user for user, _ in pairs})
    assert pruned.items == len({row[1] for row in rows}) - len({item for _, item in pairs})
    assert pruned.rows == len(rows) - sum(row[:2] in pairs for row in light)
    assert pruned.rows_of == len(rows)


@settings(max_examples=60, deadline=None)
@given(
    rows=st.lists(CELL, min_size=6, max_size=40), kinds=st.booleans(), merge=st.sampled_from(["sum", "max", "count"])
)
def test_without_pruning_and_filters_nothing_is_untrained(rows, kinds, merge):
    how = Preparation(kinds={rows[0][2]: 2.0} if kinds else {}, use="weights", merge=merge)
    assert trains_on_every_cell(how, has_values=True)
    data = rows_of(rows)
    assert untrained_cells(data, how, prepare_everything(data, how).matrix).n_cells == 0


@pytest.mark.parametrize(
    "how",
    [
        Preparation(min_user=2),
        Preparation(min_item=2),
        Preparation(drop_users_over=3),
        Preparation(like_from=2),
        Preparation(last_days=3),
        Preparation(use="values"),
        Preparation(half_life_days=3),
    ],
)
def test_what_drops_rows_is_looked_at(how):
    assert not trains_on_every_cell(how, has_values=True)
