"""Lists made elsewhere are put in order and held against a training matrix; all that is odd is counted."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.data.foreign_lists import ListOddities, arranged, ordered
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import DataError


def known() -> InteractionMatrix:
    """ann has a; bob has b and c; cat has nothing."""
    users, items = IdMap(["ann", "bob", "cat"]), IdMap(["a", "b", "c", "d"])
    return InteractionMatrix.from_cells(np.array([0, 1, 1]), np.array([0, 1, 2]), np.ones(3), users, items)


def lists(rows, *columns) -> pl.DataFrame:
    return pl.DataFrame(rows, schema=["user", "item", *columns], orient="row")


def test_places_order_lowest_first_and_scores_highest_first():
    oddities = ListOddities()
    by_place = ordered(lists([("u", "x", 2.0), ("u", "y", 1.0), ("v", "x", 0.0)], "place"), oddities)
    assert by_place.rows() == [("u", "y", 1), ("u", "x", 2), ("v", "x", 1)]
    by_score = ordered(lists([("u", "x", 0.1), ("u", "y", 0.7), ("u", "z", 0.7)], "score"), ListOddities())
    assert by_score["item"].to_list() == ["y", "z", "x"]
    as_they_come = ordered(lists([("u", "x"), ("v", "y"), ("u", "a")]), ListOddities())
    assert as_they_come.rows() == [("u", "x", 1), ("u", "a", 2), ("v", "y", 1)]
    assert (oddities.rows, oddities.users, oddities.repeats, oddities.uneven_places) == (3, 2, 0, 0)


def test_repeats_go_and_gaps_are_numbered_afresh():
    oddities = ListOddities()
    rows = [("u", "x", 1.0), ("u", "x", 2.0), ("u", "y", 5.0), ("v", "x", 1.0), ("v", "y", 2.0), ("w", "x", 3.0)]
    assert ordered(lists(rows, "place"), oddities).rows() == [
        ("u", "x", 1), ("u", "y", 2), ("v", "x", 1), ("v", "y", 2), ("w", "x", 1)
    ]  # fmt: skip
    assert (oddities.repeats, oddities.uneven_places) == (1, 2)
    assert oddities.examples["uneven_places"] == ["u", "w"]


def test_what_the_user_has_and_what_nobody_knows_hold_their_places():
    oddities = ListOddities()
    rows = [("bob", "b", 1.0), ("bob", "zzz", 2.0), ("bob", "d", 3.0), ("eve", "a", 1.0), ("ann", "d", 1.0)]
    places = arranged(ordered(lists(rows, "place"), oddities), known(), known().items, np.array([1, 2]), 4, oddities)
    assert places.tolist() == [[1, -1, 3, -1], [-1, -1, -1, -1]]
    assert oddities.examples["users_not_counted"] == ["ann", "eve"]
    assert oddities.examples["users_without_list"] == ["cat"]
    assert (oddities.users_scored, oddities.users_without_list, oddities.users_not_counted) == (1, 1, 2)
    assert (oddities.unknown_items, oddities.unknown_item_rows, oddities.known_rows, oddities.short_lists) == (
        1,
        1,
        1,
        1,
    )


def test_what_the_user_has_can_be_taken_out():
    rows = [("bob", "b", 1.0), ("bob", "zzz", 2.0), ("bob", "d", 3.0), ("bob", "a", 4.0)]
    oddities = ListOddities()
    places = arranged(
        ordered(lists(rows, "place"), oddities), known(), known().items, np.array([1]), 2, oddities, drop_known=True
    )
    assert places.tolist() == [[-1, 3]]
    assert (oddities.known_rows, oddities.short_lists) == (1, 0)


def test_a_list_of_which_nothing_is_left_is_short():
    oddities = ListOddities()
    mine = ordered(lists([("bob", "b", 1.0)], "place"), oddities)
    places = arranged(mine, known(), known().items, np.array([1]), 2, oddities, drop_known=True)
    assert places.tolist() == [[-1, -1]]
    assert (oddities.known_rows, oddities.short_lists) == (1, 1)


@given(st.lists(st.tuples(st.sampled_from("uvw"), st.sampled_from("abcde"), st.integers(0, 9)), max_size=40))
def test_any_rows_come_out_as_a_naive_walk_has_them(rows):
    whole = pl.DataFrame(rows, schema={"user": pl.String, "item": pl.String, "place": pl.Float64}, orient="row")
    actual = ordered(whole, ListOddities())
    for user in {row[0] for row in rows}:
        seen: list[str] = []
        for _, item, _ in sorted((row for row in rows if row[0] == user), key=lambda row: row[2]):
            if item not in seen:
                seen.append(item)
        mine = actual.filter(user=user)
        assert mine["item"].to_list() == seen
        assert mine["place"].to_list() == list(range(1, len(seen) + 1))


@pytest.mark.parametrize(
    ("rows", "column", "says"),
    [
        ([("u", "x", 1.0), (None, "y", 2.0)], "place", "row 2: user is missing"),
        ([("u", None, 1.0)], "place", "row 1: item is missing"),
        ([("u", "x", 1.0), ("u", "y", None)], "score", "row 2: score is missing or no number"),
        ([("u", "x", float("nan"))], "score", "row 1: score is missing or no number"),
    ],
)
def test_rows_that_say_nothing_are_named(rows, column, says):
    with pytest.raises(DataError) as caught:
        ordered(lists(rows, column), ListOddities())
    assert says in str(caught.value)
