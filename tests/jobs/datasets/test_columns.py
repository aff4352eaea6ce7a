"""Cells into ids, numbers and times; the hash of rows; the parts of an import one by one."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.data.tables.time_formats import fitting_formats
from gleaner.core.errors import DataError
from gleaner.jobs.datasets.columns import TimeReader, read_ids, read_numbers
from gleaner.jobs.datasets.content_hash import ContentHash
from gleaner.jobs.datasets.sources.delimited import DelimitedSource
from gleaner.jobs.worker.memory import PeakMemory, process_peak

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
    actual = []
    for columns in (one, other):
        content = ContentHash()
        content.add(pl.DataFrame(columns))
        actual.append(content.hexdigest())
    assert actual[0] != actual[1]


def test_numbers_are_read_and_what_is_none_is_told():
    cells = pl.Series("v", ["1", " 2.5 ", "", "-3e2", "0"])
    assert read_numbers(cells).cells.to_list() == [1.0, 2.5, None, -300.0, 0.0]
    for wrong in ("1,5", "inf", "-Infinity", "nan", "0x10", "five"):
        read = read_numbers(pl.Series("v", ["1", wrong, wrong]))
        assert read.wrong.to_list() == [False, True, True]
        assert read.cells.to_list() == [1.0, None, None]
    typed = read_numbers(pl.Series([1.0, None, float("nan"), float("inf")]))
    assert (typed.cells.to_list()[:3], typed.wrong.to_list()) == ([1.0, None, None], [False, False, False, True])


def test_ids_are_text_and_never_empty():
    assert read_ids(pl.Series([" ", "0"]))[0].wrong is None
    assert read_ids(pl.Series(["x", "", None]))[0].wrong.to_list() == [False, True, True]
    read, note = read_ids(pl.Series([7, 12]))
    assert (read.cells.to_list(), note) == (["7", "12"], "ids came as numbers; they are kept as their digits")
    read, note = read_ids(pl.Series([7.0, None]))
    assert (read.cells.to_list(), read.wrong.to_list()) == (["7", None], [False, True])
    read, _ = read_ids(pl.Series([7.5, 1.0]))
    assert read.wrong.to_list() == [True, False]
    assert "an id is neither" in read.problem


def test_a_column_of_times_keeps_to_one_way_of_writing():
    reader = TimeReader("f.csv", "at")
    assert reader.parse(pl.Series(["", ""])).cells.null_count() == 2
    assert reader.parse(pl.Series(["2026-03-01", ""])).cells.to_list() == [datetime(2026, 3, 1, tzinfo=UTC), None]
    assert reader.assumes_utc
    read = reader.parse(pl.Series(["2026-03-02", "2026-03-01T10:00:00Z"]))
    assert (read.wrong.to_list(), read.problem) == (
        [False, True], "is not written like the format of most cells, '%Y-%m-%d'"
    )  # fmt: skip


@pytest.mark.parametrize(
    ("form", "zone", "text", "expected"),
    [
        ("%d.%m.%Y %H:%M", None, "01.03.2026 09:30", datetime(2026, 3, 1, 9, 30, tzinfo=UTC)),
        ("%d.%m.%Y %H:%M", "Europe/Berlin", "01.07.2026 09:30", datetime(2026, 7, 1, 7, 30, tzinfo=UTC)),
        ("%m/%d/%y", "America/New_York", "03/01/26", datetime(2026, 3, 1, 5, tzinfo=UTC)),
        ("ms", None, "1772357400123", datetime(2026, 3, 1, 9, 30, 0, 123000, tzinfo=UTC)),
        ("s", None, "99999999999", datetime(5138, 11, 16, 9, 46, 39, tzinfo=UTC)),
        (None, "Europe/Berlin", "2026-03-01T09:30", datetime(2026, 3, 1, 8, 30, tzinfo=UTC)),
        (None, "Europe/Berlin", "2026-03-01T09:30:00Z", datetime(2026, 3, 1, 9, 30, tzinfo=UTC)),
        (None, None, "2026-03-01 09:30:00+00", datetime(2026, 3, 1, 9, 30, tzinfo=UTC)),
    ],
)
def test_times_are_read_as_declared(form, zone, text, expected):
    reader = TimeReader("f", "t", form=form, zone=zone)
    assert reader.parse(pl.Series([text])).cells[0] == expected


@pytest.mark.parametrize(
    ("cells", "form"),
    [
        (["kaputt", "13.04.2026 09:30", "03.04.2026 17:05"], "%d.%m.%Y %H:%M"),
        (["13/04/2026", "03/04/2026", "31/12/2026"], "%d/%m/%Y"),
        (["04/13/2026", "04/03/2026", "n/a"], "%m/%d/%Y"),
        (["0", "1772357400", "1772357401", "1772357402"], "s"),
        (["1772357400123", "1772357400124", ""], "ms"),
        (["1772357400123456", "1772357400123457"], "us"),
        (["2026-03-01T09:30:00Z", "?", "2026-03-01T09:30:00+02:00"], "%+"),
        (["01.02.26", "13.02.26"], "%d.%m.%y"),
        (["3/13/2026 1:05 PM", "3/14/2026 11:05 AM"], "%m/%d/%Y %I:%M %p"),
    ],
)
def test_the_format_is_the_one_that_most_cells_have(cells, form):
    reader = TimeReader("f.csv", "at")
    read = reader.parse(pl.Series(cells))
    assert reader.way == form
    is_bad = [cell in ("kaputt", "n/a", "?") for cell in cells]
    assert (read.wrong.to_list() if read.wrong is not None else [False] * len(cells)) == is_bad


def test_days_that_cannot_be_told_from_months_are_asked_about():
    with pytest.raises(
        DataError, match=r"'03/04/2026' do not tell day from month; declare the format, '%d/%m/%Y' \(day"
    ):
        TimeReader("f.csv", "at").parse(pl.Series(["03/04/2026", "05/06/2026"]))
    formats = fitting_formats(pl.Series(["03/04/2026", "05/06/2026"]))
    assert [(each.form, each.share) for each in formats] == [("%d/%m/%Y", 1.0), ("%m/%d/%Y", 1.0)]


def test_a_local_time_that_a_clock_change_skips_is_wrong_for_its_own_reason():
    reader = TimeReader("f.csv", "at", form="%d.%m.%Y %H:%M", zone="Europe/Berlin")
    cells = pl.Series(["29.03.2026 01:59", "29.03.2026 02:30", "29.03.2026 03:00", "25.10.2026 02:30", "never"])
    read, skipped = reader.parse_parts(cells)
    assert read.wrong.to_list() == [False, False, False, False, True]
    assert skipped.wrong.to_list() == [False, True, False, False, False]
    assert skipped.problem == "does not exist in Europe/Berlin: a clock change skips that local time"
    # of an hour that comes twice the first
    assert read.cells[3] == datetime(2026, 10, 25, 0, 30, tzinfo=UTC)


def test_declared_ways_that_cannot_be_are_refused():
    with pytest.raises(DataError, match="there is no time zone 'Mars/Olympus'"):
        TimeReader("f", "t", zone="Mars/Olympus")
    read = TimeReader("f", "t", form="%d.%m.%Y").parse(pl.Series(["2026-03-01"]))
    assert read.problem == "is not written like the declared format '%d.%m.%Y'"


def test_seconds_and_milliseconds_are_told_apart():
    seconds, millis = TimeReader("f", "t"), TimeReader("f", "t")
    expected = datetime(2026, 3, 1, 9, 30, tzinfo=UTC)
    assert seconds.parse(pl.Series(["1772357400"])).cells[0] == expected
    assert millis.parse(pl.Series(["1772357400000"])).cells[0] == expected
    assert not seconds.assumes_utc


def test_rows_are_numbered_as_an_editor_shows_them(tmp_path):
    path = tmp_path / "f.csv"
    path.write_text("a,b\n" + "1,2\n" * 200_000)
    source = DelimitedSource("f.csv", path)
    heard: list[float] = []
    seen = [(batch.first_row, batch.frame.height) for batch in source.batches(["b"], heard.append)]
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
    # 286 MiB of zeroes that were touched, and at most the few that Python itself took meanwhile
    assert 250 < quiet.megabytes() - before < 350
    del large
    highest = process_peak()
    assert PeakMemory().megabytes() < 100
    assert process_peak() >= highest
    # what was freed before, in small blocks, is counted when it is used again: 76 MiB of them
    small = [np.ones(2000) for _ in range(5000)]
    del small
    again = PeakMemory()
    small = [np.ones(2000) for _ in range(5000)]
    assert 60 < again.megabytes() < 100
    del small
