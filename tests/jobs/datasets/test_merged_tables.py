"""Item and user tables that are added to those of an earlier version."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta, timezone

import polars as pl
import pytest

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.import_tables import merged


def test_the_new_row_of_an_id_stands_and_numbers_of_both_sorts_go_together():
    old = pl.DataFrame({"id": ["a", "b"], "stock": [1, 2], "traits": [["tall"], None]})
    new = pl.DataFrame({"id": ["b", "c"], "stock": [2.5, 3.0], "traits": [["late"], ["early"]]})
    assert merged(old, new).rows() == [("a", 1.0, ["tall"]), ("b", 2.5, ["late"]), ("c", 3.0, ["early"])]


def test_days_and_times_with_and_without_a_zone_go_together():
    days = pl.DataFrame({"id": ["a"], "added_on": [date(2026, 3, 1)]})
    plain = pl.DataFrame({"id": ["b"], "added_on": [datetime(2026, 3, 1, 5)]})
    ahead = datetime(2026, 3, 1, 5, tzinfo=timezone(timedelta(hours=2))).astimezone(UTC)
    zoned = pl.DataFrame({"id": ["c"], "added_on": [ahead]})
    expected = [("a", datetime(2026, 3, 1)), ("b", datetime(2026, 3, 1, 5)), ("c", datetime(2026, 3, 1, 3))]
    assert merged(merged(days, plain), zoned).rows() == expected
    assert merged(zoned, merged(days, plain)).sort("id").rows() == expected


def test_a_column_of_another_type_is_refused_in_the_words_of_the_types():
    old = pl.DataFrame({"id": ["a"], "traits": [["tall"]]})
    new = pl.DataFrame({"id": ["b"], "traits": ["tall"]})
    with pytest.raises(DataError) as refused:
        merged(old, new)
    assert str(refused.value) == (
        "column 'traits' holds text here, and categories in the version these rows are added to; declare its type"
    )
    assert refused.value.where == "traits"
