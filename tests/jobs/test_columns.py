"""Cells into ids, numbers and times; the hash of rows; what the parts of an import promise one by one."""

from __future__ import annotations

import itertools
from datetime import UTC, date, datetime

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.errors import DataError
from gleaner.jobs.columns import TimeReader, parse_numbers, require_ids
from gleaner.jobs.content_hash import ContentHash
from gleaner.jobs.csv_source import CsvSource
from gleaner.jobs.import_data import _best_type
from gleaner.jobs.memory import PeakMemory

CELLS = st.lists(st.text(st.characters(exclude_categories=["Cs"]), max_size=6), min_size=1, max_size=30)


@given(CELLS, st.integers(1, 29))
def test_the_hash_does_not_see_where_batches_are_cut(texts, cut):
    numbers = [None if len(text) % 3 == 0 else float(len(text)) for text in texts]
    frame = pl.DataFrame({"user": texts, "value": pl.Series(numbers, dtype=pl.Float64)})
    whole, parts = ContentHash(), ContentHash()
    whole.add(frame)
    for part in (frame.head(cut), frame.tail(-cut) if cut < len(texts) else frame.clear()):
        parts.add(part)
    assert whole.hexdigest() == parts.hexdigest()


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ({"user": ["ab", "c"]}, {"user": ["a", "bc"]}),
        ({"user": ["a"], "item": ["b"]}, {"user": ["b"], "item": ["a"]}),
        ({"value": [0.0, 1.0]}, {"value": [None, 1.0]}),
        ({"kind": ["", "x"]}, {"kind": [None, "x"]}),
        ({"value": [1.0, 2.0]}, {"value": [2.0, 1.0]}),
    ],
)
def test_the_hash_sees_every_difference(one, other):
    found = []
    for columns in (one, other):
        content = ContentHash()
        content.add(pl.DataFrame(columns))
        found.append(content.hexdigest())
    assert found[0] != found[1]


def test_numbers_are_read_or_refused_with_their_row():
    cells = pl.Series("v", ["1", " 2.5 ", "", "-3e2", "0"])
    assert parse_numbers(cells, "f.csv", "v", 2).to_list() == [1.0, 2.5, None, -300.0, 0.0]
    for wrong in ("1,5", "inf", "-Infinity", "nan", "0x10", "five"):
        with pytest.raises(DataError, match=r"f\.csv row 8: v '.*' is not a number \(and 1 more in the same stretch\)"):
            parse_numbers(pl.Series("v", ["1", wrong, wrong]), "f.csv", "v", 7)


def test_ids_are_never_empty():
    assert require_ids(pl.Series([" ", "0"]), "f.csv", "u", 2).to_list() == [" ", "0"]
    with pytest.raises(DataError, match=r"f\.csv row 3: column 'u' is empty"):
        require_ids(pl.Series(["x", ""]), "f.csv", "u", 2)


def test_a_column_of_times_keeps_to_one_way_of_writing():
    reader = TimeReader("f.csv", "at")
    assert reader.parse(pl.Series(["", ""]), 2).null_count() == 2
    assert reader.parse(pl.Series(["2026-03-01", ""]), 4).to_list() == [datetime(2026, 3, 1, tzinfo=UTC), None]
    assert reader.assumes_utc
    with pytest.raises(DataError, match=r"row 7: at '2026-03-01T10:00:00Z' is not written like the first time"):
        reader.parse(pl.Series(["2026-03-02", "2026-03-01T10:00:00Z"]), 6)


def test_seconds_and_milliseconds_are_told_apart():
    seconds, millis = TimeReader("f", "t"), TimeReader("f", "t")
    expected = datetime(2026, 3, 1, 9, 30, tzinfo=UTC)
    assert seconds.parse(pl.Series(["1772357400"]), 1)[0] == expected
    assert millis.parse(pl.Series(["1772357400000"]), 1)[0] == expected
    assert not seconds.assumes_utc


@pytest.mark.parametrize(
    ("cells", "expected"),
    [
        (["1", "", "3"], pl.Series([1, None, 3])),
        (["1.5", "2"], pl.Series([1.5, 2.0])),
        (["01", "2"], pl.Series(["01", "2"])),
        (["1", "x"], pl.Series(["1", "x"])),
        (["true", "", "false"], pl.Series([True, None, False])),
        (["2026-01-01", ""], pl.Series([date(2026, 1, 1), None])),
        (["nan", "1"], pl.Series(["nan", "1"])),
        (["", ""], pl.Series([None, None], dtype=pl.String)),
    ],
)
def test_columns_of_tables_become_what_every_cell_is(cells, expected):
    found = _best_type(pl.Series(cells))
    assert found.dtype == expected.dtype
    assert found.to_list() == expected.to_list()


def test_rows_are_numbered_as_an_editor_shows_them(tmp_path):
    path = tmp_path / "f.csv"
    path.write_text("a,b\n" + "1,2\n" * 200_000)
    source = CsvSource(path, "f.csv")
    heard: list[float] = []
    seen = [(first, batch.num_rows) for first, batch in source.batches(["b"], heard.append)]
    assert seen[0][0] == 2
    assert all(row + n == following for (row, n), (following, _) in itertools.pairwise(seen))
    assert sum(n for _, n in seen) == 200_000
    assert heard[-1] == 1.0


def test_peak_memory_is_that_of_the_stretch():
    large = bytearray(200_000_000)
    del large
    quiet = PeakMemory()
    before = quiet.megabytes()
    large = bytearray(300_000_000)
    assert quiet.megabytes() - before > 250
    del large
    assert PeakMemory().megabytes() < before + 100
