"""Slots of a list, against lists written out by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.ranking.slots import OfferedItems, Slots, fill, spread


def offered(*rows: int) -> OfferedItems:
    return OfferedItems(np.array(rows, dtype=np.int32), np.array([1 / (1 + row) for row in rows], dtype=np.float32))


def nothing(row: int) -> list[str]:
    return []


@pytest.mark.parametrize(
    ("n", "share", "expected"),
    [(10, 0.3, [2, 6, 9]), (10, 0.2, [3, 8]), (3, 0.5, [1, 3]), (4, 1.0, [1, 2, 3, 4]), (5, 0.05, []), (1, 0.5, [1])],
)
def test_a_share_is_spread_evenly(n, share, expected):
    assert spread(n, share) == expected


@pytest.mark.parametrize(
    ("n", "share", "taken", "expected"),
    [(10, 0.3, {2}, [3, 6, 9]), (10, 0.3, {11}, [2, 6, 9]), (3, 1.0, {1, 3}, [2]), (2, 1.0, {1, 2}, [])],
)
def test_a_share_passes_over_what_is_taken(n, share, taken, expected):
    assert spread(n, share, taken) == expected


def test_promoted_places_take_the_best_promoted_that_does_not_stand_yet():
    # 1 is promoted and stands by its score already; 4 and 7 are the next
    slots_filled = fill(5, offered(1, 2, 3, 4, 5, 6), offered(1, 4, 7), Slots({}, frozenset({2, 4})), nothing)
    assert [(each.row, each.how) for each in slots_filled] == [
        (1, "ranked"), (4, "promoted"), (2, "ranked"), (7, "promoted"), (3, "ranked"),
    ]  # fmt: skip
    assert slots_filled[1].score == pytest.approx(1 / 5)


def test_where_promoted_items_run_out_the_order_by_score_goes_on():
    slots_filled = fill(4, offered(1, 2, 3, 4), offered(3), Slots({}, frozenset({1, 2, 3})), nothing)
    assert [(each.row, each.how) for each in slots_filled] == [
        (3, "promoted"), (1, "ranked"), (2, "ranked"), (4, "ranked"),
    ]  # fmt: skip


def test_pinned_items_stand_where_they_are_pinned_and_nowhere_else():
    slots = Slots({1: (9, 0.5), 4: (2, 0.4)}, frozenset({3}))
    slots_filled = fill(5, offered(1, 2, 3, 4), offered(2, 8), slots, nothing)
    assert [(each.row, each.how) for each in slots_filled] == [
        (9, "pinned"), (1, "ranked"), (8, "promoted"), (2, "pinned"), (3, "ranked"),
    ]  # fmt: skip
    # with nothing to stand before it, it moves up
    assert [each.row for each in fill(5, offered(), offered(), slots, nothing)] == [9, 2]


def test_a_limit_counts_what_is_pinned_and_promoted():
    groups = {1: ["pea"], 2: ["pea"], 3: ["bean"], 4: ["pea", "bean"], 5: ["kale"], 6: []}
    slots = Slots({2: (1, 0.9)}, frozenset({1}), most=1)
    slots_filled = fill(4, offered(2, 3, 4, 5, 6), offered(2, 5), slots, lambda row: groups[row])
    # 2 is a pea, as the pinned 1 is; 4 is a pea too
    assert [(each.row, each.how) for each in slots_filled] == [
        (5, "promoted"), (1, "pinned"), (3, "ranked"), (6, "ranked"),
    ]  # fmt: skip


@given(
    n=st.integers(1, 12),
    ranked=st.lists(st.integers(0, 20), unique=True, max_size=15),
    promoted=st.lists(st.integers(0, 20), unique=True, max_size=10),
    places=st.sets(st.integers(1, 12)),
    pins=st.dictionaries(st.integers(1, 12), st.integers(30, 40), max_size=4),
    most=st.integers(0, 3),
)
def test_whatever_is_asked_for_the_list_keeps_its_word(n, ranked, promoted, places, pins, most):
    pinned = {place: (row, 0.0) for place, row in pins.items() if list(pins.values()).count(row) == 1}
    slots = Slots(pinned, frozenset(places - set(pinned)), most)
    slots_filled = fill(n, offered(*ranked), offered(*promoted), slots, lambda row: [str(row % 4)] if row < 30 else [])
    rows = [each.row for each in slots_filled]
    assert len(rows) == len(set(rows)) <= n
    by_score = [each.row for each in slots_filled if each.how == "ranked"]
    assert by_score == [row for row in ranked if row in by_score]
    assert {each.row for each in slots_filled if each.how == "promoted"} <= set(promoted)
    assert [each.row for each in slots_filled if each.how == "pinned"] == [
        row for place, (row, _) in sorted(pinned.items()) if place <= n
    ]
    if most:
        for group in range(4):
            assert sum(row % 4 == group for row in rows if row < 30) <= most
    elif len(rows) < n:
        # nothing is held back that could have stood
        assert set(ranked) <= set(rows)
