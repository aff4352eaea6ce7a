"""Shelves that list what their model never saw, and shelves that look lists up instead of finding them exactly."""

from __future__ import annotations

import re
from pathlib import Path

import polars as pl
import pytest

import gleaner.demo
from gleaner.client import RefusedError, calls, shelf_calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.models.lists import ListsRequest
from stack import Stack

DATA = Path(gleaner.demo.__file__).parent / "data"
FALLBACK = "fallback: [{model: first-look.popular}]\n"


def publish(demo: Stack, name: str, text: str) -> str:
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=f"shelf: {name}\n{text}{FALLBACK}")))
    return name


def ask(demo: Stack, shelf: str, user: str | None = "g-0417", n: int = 1000, **more):
    return demo.client.send(shelf_calls.recommend(shelf, user=user, n=n, **more))


def items(answer) -> list[str]:
    return [place.item for place in answer.list]


def known_items(demo: Stack) -> set[str]:
    request = ListsRequest(users=["g-0417"], n=1000, include_known=True)
    return {place.item for place in demo.client.send(calls.model_lists("first-look.als", request)).lists[0].list}


ALIKE = "candidates: [{model: first-look.als}]\nleave_out: []\nnew_items: {columns: [family, traits], alike: 10}\n"


def test_what_the_model_never_saw_is_listed_by_content_until_it_is_learned(demo):
    """The model was fitted on 826 of the 900 varieties."""
    shelf = publish(demo, "so-new", ALIKE)
    answer = ask(demo, shelf)
    table = pl.read_csv(DATA / "varieties.csv.gz")
    known = known_items(demo)
    new = [place for place in answer.list if place.item not in known]
    assert {place.item for place in new} == set(table["variety"]) - known
    assert {place.source for place in new} == {"first-look.als@1, by content"}
    assert {place.source for place in answer.list if place.item in known} == {"first-look.als@1"}
    assert [p.score for p in answer.list] == sorted((p.score for p in answer.list), reverse=True)
    [new_place] = ask(demo, shelf, n=1, candidates=[new[0].item], explain=True).list
    assert re.search(r"by content \(family, traits\), as it is new$", new_place.reason)
    # who touched it is folded in
    folded = ask(demo, shelf, user=None, recent=[new[0].item], n=5)
    assert folded.folded_in


def test_a_wrong_column_for_new_items_is_told_with_its_line(demo):
    text = ALIKE.replace("traits", "colour")
    file = FileRequest(file=f"shelf: so-wrong\n{text}{FALLBACK}", name="s.yaml")
    [problem] = demo.client.send(shelf_calls.check_shelf(file)).problems
    assert (problem.line, problem.field) == (4, "new_items")
    assert "there is no item column 'colour'; there are: name, family" in problem.message
    with pytest.raises(RefusedError, match="there is no item column 'colour'"):
        demo.client.send(shelf_calls.publish_shelf(file))


def test_an_approximate_shelf_tells_its_recall(demo):
    text = "candidates: [{model: first-look.als}]\napproximate: {candidates: 200}\n"
    shelf = publish(demo, "so-near", text)
    check = demo.client.send(shelf_calls.check_shelf(FileRequest(file=f"shelf: so-near\n{text}{FALLBACK}")))
    assert (check.problems, check.recall.users, check.recall.n) == ([], 200, 10)
    assert check.recall.mean > 0.95
    exact = items(ask(demo, "for-growers", n=10))
    assert len(set(items(ask(demo, shelf, n=10))) & set(exact)) >= 8
    wrong = FileRequest(file=f"shelf: so-near\n{text.replace('als', 'item_knn')}{FALLBACK}")
    [problem] = demo.client.send(shelf_calls.check_shelf(wrong)).problems
    assert (problem.line, problem.field) == (3, "approximate")
    assert "first-look.item_knn@1 (item_knn) has no factors to look for neighbours in" in problem.message
