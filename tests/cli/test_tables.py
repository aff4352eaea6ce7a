"""Tables in terminals of any width: no figure is ever cut."""

from __future__ import annotations

import io

from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

from gleaner.cli.common import table
from gleaner.cli.models.values import _write
from gleaner.wire.models.values import Rating, Ratings


def shown(table, width: int) -> list[str]:
    out = io.StringIO()
    Console(file=out, width=width, highlight=False).print(table)
    return [line.rstrip() for line in out.getvalue().splitlines() if line.strip()]


def segments():
    labels = ("als", "als-without-half_life_days", "bpr", "item_linear")
    segment_rows = table("history", "users", *labels, right=("users", *labels))
    segment_rows.add_row("5 to 11", "204", "0.0529", "0.0661", "0.0733", "0.0808")
    return segment_rows


def test_what_fits_stands_in_one_line():
    assert shown(segments(), 80) == [
        " history   users      als   als-without-half_life_days      bpr   item_linear",
        " ────────────────────────────────────────────────────────────────────────────",
        " 5 to 11     204   0.0529                       0.0661   0.0733        0.0808",
    ]


def test_headings_break_before_anything_else():
    lines = [line.split() for line in shown(segments(), 66)]
    assert lines[:2] == [["als-without-"], ["history", "users", "als", "half_life_days", "bpr", "item_linear"]]
    assert lines[3] == ["5", "to", "11", "204", "0.0529", "0.0661", "0.0733", "0.0808"]


def test_what_finds_no_room_goes_below_beside_the_first_column():
    lines = [line.split() for line in shown(segments(), 30)]
    assert [line for line in lines if "11" in line] == [
        ["5", "to", "11", "204", "0.0529"],
        ["5", "to", "11", "0.0661", "0.0733"],
        ["5", "to", "11", "0.0808"],
    ]


def test_a_heading_of_two_lines_needs_no_more_than_the_longer():
    rows_table = table("by history", "5 to 11\n(204)", "12 to 207\n(225)", right=("5 to 11\n(204)", "12 to 207\n(225)"))
    rows_table.add_row("ge", "0.015", "0.021")
    assert shown(rows_table, 80)[:2] == [
        "              5 to 11   12 to 207",
        " by history     (204)       (225)",
    ]


def test_a_number_in_front_is_no_key_by_itself():
    rows_table = table("", "item", "first", "second", right=("first", "second"))
    rows_table.add_row("1", "v-0001", "0.123456789", "0.987654321")
    assert [line for line in shown(rows_table, 28) if "v-0001" in line] == [
        " 1   v-0001   0.123456789",
        " 1   v-0001   0.987654321",
    ]


def test_texts_break_between_words():
    rows_table = table("contenders", "difference", right=("difference",))
    rows_table.add_row("als-without-half_life_days - popular", "+0.0445")
    lines = [line.split() for line in shown(rows_table, 44)[2:]]
    assert lines == [["als-without-half_life_days", "-", "+0.0445"], ["popular"]]


CELL = st.from_regex(r"[a-z0-9.]{1,14}", fullmatch=True)


@given(st.data(), st.integers(40, 120))
def test_every_figure_of_any_table_is_whole(data, width):
    names = data.draw(
        st.lists(
            st.from_regex(r"[a-z]{1,8}([-_ @][a-z]{1,8}){0,3}", fullmatch=True), min_size=1, max_size=9, unique=True
        )
    )
    rows = data.draw(st.lists(st.lists(CELL, min_size=len(names), max_size=len(names)), min_size=1, max_size=4))
    rows_table = table(*names, right=tuple(names))
    for row in rows:
        rows_table.add_row(*row)
    lines = shown(rows_table, width)
    assert max(map(len, lines)) <= width
    words = [word for line in lines for word in line.split()]
    for row in rows:
        for cell in row:
            assert cell in words


def test_predicted_values_are_written_so_that_no_spreadsheet_runs_an_id(tmp_path):
    actual = [Rating(user="=1+1", item="v-1", value=3.25, answerable=True)]
    actual += [Rating(user="-7", item="@v", value=4, answerable=False, reason="unknown user", fell_back_on="mean")]
    _write(Ratings(model="m@1", scale=(1, 5), ratings=actual), tmp_path / "values.csv")
    assert (tmp_path / "values.csv").read_text() == (
        "user,item,value,answerable,reason,fell_back_on\n'=1+1,v-1,3.25,true,,\n-7,'@v,4.0,false,unknown user,mean\n"
    )
