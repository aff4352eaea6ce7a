"""Requests that come while others are worked on are answered together."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor

import pytest

from gleaner.core.ranking.batching import Batcher


def test_those_who_come_meanwhile_are_answered_in_one_piece_of_work():
    batcher: Batcher[int, int] = Batcher()
    begun, go_on, batches = threading.Event(), threading.Event(), []

    def work(values: list[int]) -> list[int]:
        batches.append(values)
        begun.set()
        assert go_on.wait(20)
        return [each * 10 for each in values]

    with ThreadPoolExecutor(6) as pool:
        first = pool.submit(batcher.submit, 1, work)
        assert begun.wait(20)
        others = [pool.submit(batcher.submit, each, work) for each in (2, 3, 4)]
        while len(batcher._waiting) < 3:
            pass
        go_on.set()
        assert [each.result(20) for each in (first, *others)] == [10, 20, 30, 40]
    assert [sorted(batch) for batch in batches] == [[1], [2, 3, 4]]
    # nobody is left to lead: the next request does
    assert batcher.submit(9, work) == 90


def test_what_goes_wrong_is_told_to_all_it_was_for_and_to_nobody_else():
    batcher: Batcher[int, int] = Batcher()

    def broken(values: list[int]) -> list[int]:
        raise KeyError("no")

    with pytest.raises(KeyError):
        batcher.submit(1, broken)
    assert batcher.submit(2, lambda values: values) == 2


def test_many_who_ask_all_get_their_own_answer():
    batcher: Batcher[int, int] = Batcher()
    with ThreadPoolExecutor(16) as pool:
        request = list(range(400))
        assert list(pool.map(lambda each: batcher.submit(each, lambda some: [x * x for x in some]), request)) == [
            each * each for each in request
        ]
