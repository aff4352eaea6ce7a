"""Refreshing a shelf changes the names of models in its file, and nothing else of it."""

from __future__ import annotations

import pytest

from gleaner.jobs.shelves.renamed_file import renamed_file

FILE = """\
shelf: front   # first.als@1 was here first
title: "first.als@1"
candidates:
  - {model: first.als@1, take: 50}
  - model: 'first.als@12'
  - like: {model: "first.als@1", n: 3}
score:
  blend: {first.als@1: 2, first.als@12: 1}
fallback: [{model: first.popular@1}]
"""


def test_only_entries_that_name_a_model_are_changed():
    text = renamed_file(FILE, {"first.als@1": "first.als@3", "first.popular@1": "first.popular@20"})
    assert text == FILE.replace("{model: first.als@1,", "{model: first.als@3,").replace(
        '{model: "first.als@1",', "{model: first.als@3,"
    ).replace("{first.als@1: 2", "{first.als@3: 2").replace("popular@1}", "popular@20}")


@pytest.mark.parametrize("ends", ["\n", "\r\n"])
def test_letters_of_any_sort_and_ends_of_lines_stay_where_they_are(ends):
    text = ends.join(["\ufeff# \N{SEEDLING} Söd", "shelf: a", "candidates: [{model: x.als@1}]", ""])
    assert renamed_file(text, {"x.als@1": "x.als@10"}) == text.replace("@1}", "@10}")


def test_a_name_that_another_begins_with_is_left_alone():
    assert renamed_file(FILE, {"first.als@12": "first.als@13"}).count("first.als@1:") == 1
    assert "model: first.als@13\n" in renamed_file(FILE, {"first.als@12": "first.als@13"})
    assert renamed_file(FILE, {}) == FILE
