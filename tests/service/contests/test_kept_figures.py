"""Figures that are worked out once."""

from __future__ import annotations

import threading

import pytest

from gleaner.core.errors import InputError
from gleaner.service.contests.kept_figures import KeptFigures


def test_an_answer_is_worked_out_once_however_many_ask_at_once():
    figures, begun, go = KeptFigures(), [], threading.Event()

    def work_out():
        begun.append(1)
        go.wait(60)
        return "answer"

    answers = []
    threads = [threading.Thread(target=lambda: answers.append(figures.once("run", work_out))) for _ in range(4)]
    for thread in threads:
        thread.start()
    go.set()
    for thread in threads:
        thread.join()
    assert answers == ["answer"] * 4
    assert len(begun) == 1


def test_what_was_not_asked_for_of_late_makes_room():
    figures = KeptFigures(most=2)
    for key in ("first", "second", "first", "third"):
        figures.once(key, lambda: key)  # noqa: B023  called at once
    assert figures.once("first", lambda: "again") == "first"
    assert figures.once("second", lambda: "again") == "again"


def test_that_there_is_nothing_to_compare_is_an_answer_too():
    figures, worked_out = KeptFigures(), []
    assert [figures.once("run", lambda: worked_out.append(1)) for _ in range(3)] == [None] * 3
    assert worked_out == [1]


def test_a_refusal_is_not_kept():
    figures = KeptFigures()

    def refuse():
        raise InputError("no such metric", where="metric")

    with pytest.raises(InputError):
        figures.once("run", refuse)
    assert figures.once("run", lambda: "now") == "now"
