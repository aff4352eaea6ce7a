"""What users have rows of, against a plain filter of the rows."""

from __future__ import annotations

from datetime import timedelta

import numpy as np
import pytest

from gleaner.core.data.past import PastRows
from worlds import START, rows_of

CELLS = [("u", "a"), ("v", "b"), ("u", "b"), ("u", "a"), ("w", "c"), ("u", "c"), ("v", "a")]
KINDS = ["view", "view", "save", "save", None, "view", "view"]
DAYS = [0, 1, 2, 3, 4, None, 6]


def plain(user, kind, day):
    result = [
        item
        for (of, item), own, at in zip(CELLS, KINDS, DAYS, strict=True)
        if of == user and kind in (None, own) and (day is None or (at is not None and at >= day))
    ]
    return sorted(result)


@pytest.mark.parametrize("user", ["u", "v", "w", "x", None])
@pytest.mark.parametrize("kind", [None, "view", "save", "sold"])
@pytest.mark.parametrize("day", [None, 0, 2, 9])
def test_rows_are_found_by_user_kind_and_time(user, kind, day):
    past = PastRows.of(rows_of(CELLS, kinds=KINDS, days=DAYS))
    since = None if day is None else START + timedelta(days=day)
    actual = past.items_map.take(past.items_of(user, kind, since))
    assert sorted(actual) == plain(user, kind, day)


def test_without_kinds_and_times_there_is_the_whole_history():
    past = PastRows.of(rows_of(CELLS))
    assert past.kind_names == []
    assert sorted(past.items_map.take(past.items_of("v", None, None))) == ["a", "b"]
    assert not len(past.items_of("v", None, START))
    assert not len(past.items_of("v", "view", None))
    assert past.items.dtype == np.int32
