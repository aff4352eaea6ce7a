"""Interactions that came since training: kept by user in order of time, and weighed as training would have."""

from __future__ import annotations

import gc
from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.data.compare import by_chance
from gleaner.core.data.live import MOST_OF_ONE, LiveRow, LiveRows
from gleaner.core.data.rows import InteractionRows
from gleaner.core.preparation.live_cells import LiveReading
from gleaner.core.preparation.prepare import keep_rows, prepare, recipe_of
from gleaner.core.preparation.recipe import Preparation, Recipe

START = datetime(2026, 3, 1, tzinfo=UTC)


def at(minutes: float) -> int:
    return int((START + timedelta(minutes=minutes)).timestamp() * 1_000_000)


def row(
    seq: int, item: str = "a", kind: str | None = "view", minutes: float = 0, value: float | None = None
) -> LiveRow:
    return LiveRow(seq, item, kind, value, at(minutes))


EVENTS = st.lists(
    st.tuples(st.sampled_from("uvw"), st.integers(0, 30), st.sampled_from("abc"), st.integers(-5, 5)), max_size=60
)


@given(EVENTS, st.integers(1, 40))
def test_rows_are_by_user_in_order_of_time_once_each_and_the_newest_of_all(events, most):
    live, arrived = LiveRows(most), []
    for user, seq, item, minutes in events:
        new = live.add([(user, row(seq, item, minutes=minutes))])
        fresh = all(not (user == other and seq == entry.seq) for other, entry in arrived)
        assert new == fresh
        if fresh:
            arrived.append((user, row(seq, item, minutes=minutes)))
            arrived = arrived[-most:]
        for name in "uvw":
            expected = sorted(
                (entry for other, entry in arrived if other == name), key=lambda each: (each.at, each.seq)
            )
            assert live.of(name) == expected
    assert len(live) == len(arrived)


def test_one_user_keeps_so_many_and_a_forgotten_one_none():
    live = LiveRows()
    live.add(("u", row(seq, minutes=seq)) for seq in range(MOST_OF_ONE + 5))
    assert [each.seq for each in live.of("u")] == list(range(5, MOST_OF_ONE + 5))
    live.add([("v", row(-1))])
    live.forget("u")
    assert (live.of("u"), len(live.of("v")), len(live)) == ([], 1, 1)
    assert live.of(None) == []


def test_rows_are_the_same_object_until_there_is_another_and_nothing_to_search_for_cycles():
    live = LiveRows()
    live.add([("u", row(1)), ("u", row(2))])
    rows = live.of_user("u")
    live.add([("v", row(3)), ("u", row(2))])
    assert live.of_user("u") is rows
    live.add([("u", row(4))])
    assert live.of_user("u") is not rows
    gc.collect()
    gc.collect()  # what held those that were let go of goes the next time
    assert not any(gc.is_tracked(each) for each in (live.of_user("u"), *live.of_user("u")))


def test_items_are_asked_for_by_kind_and_time():
    live = LiveRows()
    live.add([("u", row(1, "a", "view", 0)), ("u", row(2, "b", "save", 10)), ("u", row(3, "a", "save", 20))])
    assert live.items_of("u", None, None) == ["a", "b", "a"]
    assert live.items_of("u", "save", None) == ["b", "a"]
    assert live.items_of("u", None, START + timedelta(minutes=10)) == ["b", "a"]
    assert live.items_of("u", "view", START + timedelta(minutes=1)) == []
    assert live.items_of("nobody", None, None) == live.items_of(None, None, None) == []


HOWS = [
    {"kinds": {"view": 1.0, "save": 3.0}},
    {"drop_kinds": ["view"]},
    {"kinds": {"view": 0.5, "request": 5.0}, "merge": "max"},
    {"merge": "count"},
    {"use": "values", "merge": "mean"},
    {"use": "values", "merge": "latest"},
    {"use": "values"},
    {"kinds": {"view": 2.0, "save": 3.0}, "use": "values"},
    {"like_from": 3.0},
]


@pytest.mark.parametrize("how", HOWS)
@given(
    events=st.lists(
        st.tuples(
            st.sampled_from("abc"),
            st.sampled_from(["view", "save", "request"]),
            st.none() | st.sampled_from([0.0, 1.0, 3.0, 4.5]),
        ),
        min_size=1,
        max_size=12,
    )
)
def test_a_user_weighs_what_training_would_have_made_of_the_same_rows(how, events):
    # one row of every kind by somebody else, so that no declared kind is missing
    others = [("z", kind, 5.0) for kind in ("view", "save", "request")]
    frame = pl.DataFrame(
        {
            "user": ["u"] * len(events) + ["other"] * 3,
            "item": [item for item, _, _ in events + others],
            "kind": [kind for _, kind, _ in events + others],
            "value": pl.Series([value for _, _, value in events + others], dtype=pl.Float64),
            "time": [START + timedelta(minutes=place) for place in range(len(events) + 3)],
        }
    )
    preparation = Preparation(**how)
    rows = InteractionRows.from_arrow(
        frame.with_columns(pl.col("user", "item", "kind").cast(pl.Categorical)).to_arrow()
    )
    matrix = prepare(keep_rows(rows, preparation)[0], preparation).matrix
    user = matrix.users.row("u")
    items, values = ([], []) if user is None else matrix.history(user)
    trained = {matrix.items.id(int(item)): float(value) for item, value in zip(items, values, strict=True)}
    reading = LiveReading(recipe_of(rows, preparation))
    live = [LiveRow(place, item, kind, value, at(place)) for place, (item, kind, value) in enumerate(events)]
    assert reading.cells(live) == pytest.approx(trained)


def test_items_stand_in_the_order_in_which_they_were_last_touched():
    cells = LiveReading(Recipe(kinds={"view": 1.0, "save": 3.0})).cells([row(1, "a"), row(2, "b", "save"), row(3, "a")])
    assert list(cells.items()) == [("b", 3.0), ("a", 2.0)]
    assert LiveReading(typical=1.5).cells([row(1, "a"), row(2, "a")]) == {"a": 1.5}


def test_what_chance_alone_would_show():
    # one row of two even items is always half away; more rows come closer; without rows there is nothing to tell
    assert by_chance(np.array([7, 7]), 1) == 0.5
    even = np.ones(100)
    few, many = by_chance(even, 10), by_chance(even, 100_000)
    assert 0.85 < few < 0.95
    assert many < 0.02
    assert by_chance(even, 0) == by_chance(np.zeros(3), 5) == 0.0


def test_rows_are_bounded_by_the_bytes_of_their_texts_too():
    rows = LiveRows(most=1000, max_bytes=1000)
    rows.add((f"user-{n:05}", LiveRow(n, "i" * 90, None, None, n)) for n in range(50))
    # 100 characters a row
    assert (len(rows), rows.dropped) == (10, 40)
    assert rows.users() == [f"user-{n:05}" for n in range(40, 50)]
    rows.forget("user-00045")
    rows.add([("user-00099", LiveRow(99, "i" * 90, None, None, 99))])
    assert len(rows) == 10
    rows.add([("user-00100", LiveRow(100, "\u2618" * 20, None, None, 100))])
    assert len(rows) == 10
