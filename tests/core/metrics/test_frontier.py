"""Which candidates no other beats in two figures at once."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.metrics.frontier import on_frontier


def test_who_is_beaten_in_both_is_not_on_it():
    first, second = np.array([3.0, 2.0, 2.0, 1.0, 3.0]), np.array([1.0, 2.0, 1.0, 3.0, 1.0])
    assert on_frontier(first, second).tolist() == [True, True, False, True, True]


def test_who_has_no_figure_is_not_on_it_and_beats_nobody():
    assert on_frontier(np.array([9.0, 1.0]), np.array([np.nan, 1.0])).tolist() == [False, True]


@given(st.lists(st.tuples(st.integers(0, 4), st.integers(0, 4)), min_size=1, max_size=12))
def test_it_is_what_comparing_each_with_each_says(points):
    naive = [
        not any((a >= x and b >= y) and (a > x or b > y) for a, b in points) for x, y in points
    ]  # fmt: skip
    first, second = np.array(points, dtype=float).T
    assert on_frontier(first, second).tolist() == naive
