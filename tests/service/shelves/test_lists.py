"""Lists: from a model, from a shelf, for someone known, new or anonymous; publishing."""

from __future__ import annotations

import http.client
import json
import re
import threading
from types import SimpleNamespace
from urllib.parse import urlsplit

import anyio
import numpy as np
import pytest

from gleaner.client import NotFoundError, calls
from gleaner.demo.shipped import shipped
from gleaner.service.shelves.quick_lists import list_of
from gleaner.serving.answer import new_list_id
from gleaner.wire.common import Problem
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.shelves.shelf import RecommendationAnswer, RecommendRequest
from stack import Stack, wait_for
from tolerances import SINGLE


def test_lists_leave_out_what_a_grower_has_and_say_so(demo):
    history = demo.client.send(calls.history("seeds", 1, "g-0417", limit=500))
    answer = demo.client.send(calls.recommend("for-growers", user="g-0417", n=1000))
    items = [place.item for place in answer.list]
    assert len(items) == len(set(items))
    kept_kinds = {row.item for row in history.rows if row.kind != "grown"}
    known = demo.client.send(calls.model_recommend("first-look.als", "g-0417", 1000, include_known=True))
    trained = {place.item for place in known.list} - set(items)
    assert trained <= kept_kinds
    assert answer.left_out == {"known": len(trained), "recent": 0}
    assert answer.note == f"1000 were asked for, {len(items)} are left to recommend"
    assert [place.position for place in answer.list] == list(range(1, len(items) + 1))
    assert set(answer.list[0].columns) == {"name", "family", "credits"}


def test_a_condition_keeps_to_the_items_it_holds_for(demo):
    where = "stock > 0 AND family IN ('kale', 'pea') AND days_to_harvest < 120"
    answer = demo.client.send(calls.model_recommend("first-look.als", "g-0417", 1000, where=where))
    assert answer.list
    assert len(answer.list) <= answer.where_keeps
    for place in answer.list:
        assert place.columns["stock"] > 0
        assert place.columns["family"] in ("kale", "pea")
        assert place.columns["days_to_harvest"] < 120
    everything = demo.client.send(calls.model_recommend("first-look.als", "g-0417", 1000))
    kept = {place.item for place in answer.list}
    assert [p.item for p in everything.list if p.item in kept] == [p.item for p in answer.list]


def test_a_shelf_and_its_model_agree(demo):
    shelf = demo.client.send(calls.recommend("for-growers", user="g-0020", n=20))
    model = demo.client.send(calls.model_recommend("first-look.als@1", "g-0020", 20))
    assert [p.item for p in shelf.list] == [p.item for p in model.list]
    np.testing.assert_allclose([p.score for p in shelf.list], [p.score for p in model.list], rtol=SINGLE)


def test_the_quick_way_answers_as_the_declared_one_does(demo):
    path = "/v1/shelves/for-growers/recommendations"
    demo.http.get(path)
    for query in ({"user": "g-0417"}, {"user": "g-0020", "n": 3}, {"user": "nobody é/?&", "n": 1000}, {}):
        quick, declared = demo.http.get(path, params=query), demo.http.get(path, params=query | {"explain": False})
        assert (quick.status_code, declared.status_code) == (200, 200)
        mine, other = quick.json(), declared.json()
        assert mine.pop("list_id") != other.pop("list_id")
        assert mine == other
        RecommendationAnswer.model_validate(quick.json())
        # only the framework's own way knows of the trace; both name the request
        for name in ("content-type", "x-content-type-options"):
            assert quick.headers[name] == declared.headers[name]
        assert re.fullmatch("[0-9a-f]{16}", quick.headers["x-request-id"])


@pytest.mark.parametrize(
    ("quick", "where", "here"), [(True, None, True), (True, "stock > 0", False), (False, None, False)]
)
def test_what_may_take_long_does_not_hold_up_other_requests(quick, where, here):
    shelf = SimpleNamespace(is_quick=quick, answer=lambda request: {"thread": threading.get_ident()})
    answer = anyio.run(list_of, shelf, RecommendRequest(where=where))
    assert (answer["thread"] == threading.get_ident()) is here


@pytest.mark.parametrize(
    ("query", "status", "message"),
    [
        ("n=0", 422, "greater than or equal to 1"),
        ("n=1001", 422, "less than or equal to 1000"),
        ("n=9" + "9" * 5000, 422, "n"),
        ("n=x", 422, "valid integer"),
        ("user=", 422, "at least 1 character"),
        ("user=" + "a" * 1001, 422, "at most 1000 characters"),
        ("user=a&explain=maybe", 422, "valid boolean"),
    ],
)
def test_what_is_wrong_with_a_call_for_a_list_is_said(demo, query, status, message):
    response = demo.http.get(f"/v1/shelves/for-growers/recommendations?{query}")
    assert (response.status_code, message in response.text) == (status, True), response.text


def test_lists_are_counted_with_the_requests(demo):
    def count() -> float:
        actual = re.findall(
            r'gleaner_requests_total{.*recommendations",status="200"} ([\d.]+)', demo.http.get("/metrics").text
        )
        return sum(map(float, actual))

    before = count()
    for query in ("", "?n=3", "?explain=true"):
        demo.http.get(f"/v1/shelves/for-growers/recommendations{query}")
    assert count() == before + 3


CONDITIONED = """\
shelf: in-stock
candidates: [{model: first-look.als}]
where: WHERE
fallback: [{model: first-look.popular}]
show: [stock, family]
"""


def publish(stack: Stack, where: str):
    text = CONDITIONED.replace("WHERE", json.dumps(where))
    return stack.http.post("/v1/shelves", json={"file": text, "name": "in-stock.yaml"})


def test_a_shelf_keeps_to_its_condition(demo):
    assert publish(demo, "stock > 3 AND family <> 'kale'").status_code == 201
    wanted = demo.client.send(
        calls.model_recommend("first-look.als", "g-0417", 1000, where="stock > 3 AND family <> 'kale'")
    )
    known = demo.client.send(calls.recommend("in-stock", user="g-0417", n=1000))
    assert [p.item for p in known.list] == [p.item for p in wanted.list]
    assert known.left_out["where"] == 826 - wanted.where_keeps
    shown = demo.gleaner("shelf", "try", "in-stock", "--user", "g-0417").stdout
    assert f"left out: 11 known, {826 - wanted.where_keeps} by the condition" in shown
    for request in ({"user": "nobody"}, {"recent": [known.list[0].item]}, {}):
        answer = demo.client.send(calls.recommend("in-stock", n=40, **request))
        assert len(answer.list) == 40
        assert all(p.columns["stock"] > 3 and p.columns["family"] != "kale" for p in answer.list)


@pytest.mark.parametrize(
    ("where", "message"),
    [
        ("stok > 0", "character 1: there is no column 'stok'"),
        ("stock > 'many'", "character"),
        ("stock < 0", "holds for none of the 826 items of first-look.als@1"),
    ],
)
def test_a_condition_that_does_not_fit_is_refused_when_published(demo, where, message):
    response = publish(demo, where)
    assert (response.status_code, message in response.json()["detail"]) == (422, True), response.text


def test_someone_new_gets_a_list_and_the_reason(demo):
    anonymous = demo.client.send(calls.recommend("for-growers", n=5))
    assert anonymous.fallback == "first-look.popular@1: no user was named, and no recent items were given"
    unknown = demo.client.send(calls.recommend("for-growers", user="nobody", recent=["no-such-item"], n=5))
    assert unknown.fallback.endswith(
        "user 'nobody' is not in the training data, and none of the recent items (1) is known"
    )
    assert [p.item for p in unknown.list] == [p.item for p in anonymous.list]
    popular = demo.client.send(calls.recommend("for-growers", user="nobody", recent=[anonymous.list[0].item, "x"], n=5))
    assert popular.folded_in == "user 'nobody' is not in the training data; computed from 1 of 2 recent items"
    assert popular.fallback is None
    assert anonymous.list[0].item not in [place.item for place in popular.list]
    assert popular.left_out == {"known": 0, "recent": 1}


def test_recent_items_change_a_known_growers_list(demo):
    before = demo.client.send(calls.recommend("for-growers", user="g-0417", n=10))
    touched = before.list[0].item
    after = demo.client.send(calls.recommend("for-growers", user="g-0417", recent=[touched], n=10))
    assert after.fallback is None
    assert touched not in [place.item for place in after.list]
    assert [p.item for p in after.list] != [p.item for p in before.list[1:]]


def test_lists_are_refused_to_a_page_of_another_name_and_to_unknown_keys(demo):
    path = "/v1/shelves/for-growers/recommendations?user=g-0417"
    assert demo.http.get(path).status_code == 200
    for headers in ({"host": "elsewhere.example"}, {"authorization": "Bearer nobody"}):
        answer = demo.http.get(path, headers=headers)
        assert answer.status_code == 401
        assert "list" not in answer.json()
    # one host to the reader in front and another to the one behind must not pass either
    line = http.client.HTTPConnection("127.0.0.1", urlsplit(demo.url).port)
    line.putrequest("GET", path, skip_host=True)
    for host in ("elsewhere.example", "127.0.0.1"):
        line.putheader("Host", host)
    line.endheaders()
    assert line.getresponse().status in (400, 401)
    line.close()


def test_every_list_has_an_id_of_its_own_and_they_sort_by_time():
    list_ids = [new_list_id() for _ in range(2000)]
    assert len(set(list_ids)) == 2000
    assert {len(each) for each in list_ids} == {24}
    assert [each[:12] for each in list_ids] == sorted(each[:12] for each in list_ids)


def test_served_lists_are_kept_under_their_id(demo):
    answer = demo.client.send(calls.recommend("for-growers", user="g-0001", n=3))
    kept = wait_for(lambda: found_list(demo, answer.list_id))
    assert (kept.items, kept.user, kept.shelf) == ([p.item for p in answer.list], "g-0001", "for-growers")


def test_a_shelf_that_is_tried_serves_nothing_that_is_counted(demo):
    def counted() -> float:
        lines = demo.http.get("/metrics").text.splitlines()
        return sum(
            float(line.split()[1]) for line in lines if line.startswith("gleaner_lists_total") and "for-growers" in line
        )

    before = counted()
    tried = demo.client.send(calls.recommend("for-growers", user="g-0417", n=3, record=False))
    told = json.loads(demo.gleaner("shelf", "try", "for-growers", "--user", "g-0417", "--json").stdout)
    assert counted() == before
    served = demo.client.send(calls.recommend("for-growers", user="g-0417", n=3))
    assert [each.item for each in served.list] == [each.item for each in tried.list]
    assert counted() == before + 1
    # lists are written in the order in which they were made
    wait_for(lambda: found_list(demo, served.list_id))
    for unrecorded in (tried.list_id, told["list_id"]):
        with pytest.raises(NotFoundError):
            demo.client.send(calls.served_list(unrecorded))


def found_list(stack: Stack, list_id: str):
    try:
        return stack.client.send(calls.served_list(list_id))
    except NotFoundError:
        return None


@pytest.mark.parametrize(
    ("change", "detail"),
    [
        (("first-look.als", "nope.als"), "there is no model 'nope.als'"),
        (("[name, family, credits]", "[nmae]"), "there is no item column 'nmae' to show; did you mean 'name'?"),
        (("first-look.popular", "first-look.als"), "no fallback serves someone unknown"),
        (("leave_out: [known, recent]", "leave_out: [seen]"), "leave_out.0"),
        (("fallback:", "fallbacks:"), "fallbacks"),
    ],
)
def test_a_broken_shelf_never_replaces_a_good_one(demo, change, detail):
    before = demo.client.send(calls.shelf("for-growers")).number
    response = demo.http.post("/v1/shelves", json={"file": shipped("for-growers.yaml").replace(*change)})
    assert response.status_code in (404, 422)
    assert detail in Problem.model_validate(response.json()).detail
    assert demo.client.send(calls.shelf("for-growers")).number == before


def test_a_new_version_is_served_at_once_and_pins_its_models(demo):
    text = (
        "shelf: second\ncandidates: [{model: first-look.item_knn}]\n"
        "fallback: [{model: first-look.popular}]\n"
    )  # fmt: skip
    for number in (1, 2):
        published = demo.client.send(calls.publish_shelf(FileRequest(file=text)))
        assert published.number == number
        assert published.spec.candidates[0].model == "first-look.item_knn@1"
        answer = demo.client.send(calls.recommend("second", user="g-0417", n=2))
        assert answer.version in (number, number - 1)
        wait_for(lambda number=number: demo.client.send(calls.recommend("second", n=1)).version == number)
    history = demo.client.send(calls.shelf_history("second"))
    assert [version.number for version in history.versions] == [2, 1]
    assert demo.client.send(calls.shelf("second@1")).number == 1
