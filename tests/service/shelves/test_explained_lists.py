"""Lists with reasons: bounded in positions and time, and never made where other calls wait."""

from __future__ import annotations

import asyncio
import threading
from types import SimpleNamespace

import numpy as np
import pytest

from gleaner.client import shelf_calls
from gleaner.service.shelves.quick_lists import list_of
from gleaner.serving import shelf as serving
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.shelves.shelf import MAX_EXPLAINED, RecommendRequest

FILE = "shelf: explained\ncandidates: [{model: first-look.als}]\nfallback: [{model: first-look.popular}]\n"


@pytest.fixture(scope="module")
def shelf(demo) -> str:
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=FILE)))
    return "explained"


def ask(demo, shelf: str, **body) -> dict:
    return demo.http.post(f"/v1/shelves/{shelf}/recommendations", json=body).json()


def test_reasons_are_given_for_a_stated_number_of_positions(demo, shelf):
    items = [f"v-{n:04}" for n in range(1, 400)]
    answer = ask(demo, shelf, user="g-0417", recent=items, n=200, explain=True)
    reasons = [place["reason"] for place in answer["list"]]
    assert (len(reasons), MAX_EXPLAINED) == (200, 50)
    assert all(reasons[:MAX_EXPLAINED])
    assert not any(reasons[MAX_EXPLAINED:])
    assert answer["note"] == "reasons are given for the first 50 positions"
    short = ask(demo, shelf, user="g-0417", n=20, explain=True)
    assert (all(place["reason"] for place in short["list"]), short["note"]) == (True, None)


def test_reasons_stop_when_their_time_is_over(demo, monkeypatch):
    """Each reading of the clock takes a quarter of the time that reasons have."""
    readings = iter(range(1000))
    monkeypatch.setattr(serving, "thread_time", lambda: next(readings) * serving.EXPLAIN_S / 4)
    finder = SimpleNamespace(of=lambda row: f"because {row}")
    monkeypatch.setattr(serving, "ReasonFinder", lambda *_: finder)
    lists = SimpleNamespace(items=np.arange(30))
    context = SimpleNamespace(eligible=SimpleNamespace(fitted=None), person=None, request=SimpleNamespace(context={}))
    ordered = SimpleNamespace(context=context, source=None)
    loaded = SimpleNamespace(items=None, _by_source=lambda source: source)
    reasons = serving.LoadedShelf._reasons(loaded, ordered, lists, None, ["model"] * 30)
    assert reasons == [f"because {row}" for row in range(5)]


@pytest.mark.parametrize(
    ("request_", "on_the_loop"),
    [
        (RecommendRequest(user="u", n=10), True),
        (RecommendRequest(user="u", n=10, recent=["a"] * 50), True),
        (RecommendRequest(user="u", n=10, explain=True), False),
        (RecommendRequest(user="u", n=101), False),
        (RecommendRequest(user="u", n=10, recent=["a"] * 51), False),
        (RecommendRequest(user="u", n=10, candidates=["a"]), False),
        (RecommendRequest(user="u", n=10, where="stock > 0"), False),
    ],
)
def test_what_may_take_long_is_not_made_where_other_calls_wait(request_, on_the_loop):
    made_by: list[int] = []

    def answer(_: RecommendRequest) -> None:
        made_by.append(threading.get_ident())

    asyncio.run(list_of(SimpleNamespace(is_quick=True, answer=answer), request_))
    assert (made_by == [threading.get_ident()]) == on_the_loop
