"""The sentences about a file of lists, word for word."""

from __future__ import annotations

from gleaner.core.data.foreign_lists import ListOddities
from gleaner.jobs.lists import list_findings


def some() -> ListOddities:
    oddities = ListOddities(
        rows=20, users=6, users_scored=4, repeats=2, known_rows=1, unknown_item_rows=3, short_lists=1
    )
    oddities.note("users_without_list", ["u-1"])
    oddities.note("users_not_counted", ["u-2", "u-3", "u-4", "u-5"])
    oddities.note("unknown_items", ["v-1", "v-2"])
    return oddities


def test_scored_lists_are_told_what_a_row_costs_them():
    assert list_findings.scored(some(), "CSV", known_dropped=False).said == [
        "1 user of the test part has no list: scoring nothing (u-1)",
        "4 users of the file are unknown or without a relevant item: not scored (u-2, u-3, u-4, ...)",
        "2 items are unknown to training, in 3 rows: holding a place and missing (v-1, v-2)",
        "1 row shows what the user has in training: holding a place and missing, where drop_known would take them out",
        "2 rows repeat an item of the list: dropped, what follows moves up",
        "1 list is shorter than the largest cut-off: empty places miss",
    ]


def test_what_was_taken_out_is_not_said_to_miss():
    findings = list_findings.scored(some(), "CSV", known_dropped=True).said
    assert "1 row shows what the user has in training: taken out, what follows moves up" in findings


def test_analysed_lists_are_told_of_no_score_and_no_option_of_scoring():
    assert list_findings.analysed(some(), "CSV").said == [
        "1 user of the test part has no list: left out (u-1)",
        "4 users of the file are unknown to training or without a relevant item: left out (u-2, u-3, u-4, ...)",
        "2 items are unknown to training, in 3 rows: such places are left empty (v-1, v-2)",
        "1 row shows what the user has in training: analysed as the others",
        "2 rows repeat an item of the list: dropped, what follows moves up",
        "1 list is shorter than the places looked at: those are left empty",
    ]


def test_nothing_odd_is_nothing_said():
    assert (
        list_findings.scored(ListOddities(rows=3, users=1, users_scored=1), "Parquet", known_dropped=False).said == []
    )
