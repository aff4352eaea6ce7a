"""What a request says of the items in it, and which columns it asks for."""

from __future__ import annotations

import pytest

from commands import call
from gleaner.client import RefusedError, calls, model_calls, shelf_calls
from gleaner.wire.contests.contest import FileRequest, PrepareSpec
from gleaner.wire.models.lists import ListsRequest
from gleaner.wire.models.training import TrainRequest
from tolerances import SINGLE, SOLVED, SUMMED

PICKED = ["v-0010", "v-0544"]
FALLBACK = "fallback: [{model: first-look.popular}]\nleave_out: []\nshow: [name]\n"


@pytest.fixture(scope="module")
def shelves(demo):
    kinds = {"kinds": {"view": 1, "save": 3, "request": 5}}
    rated = {"kinds": {"grown": 1}, "use": "values", "merge": "mean"}
    for name, family, params, how in (
        ("taste.values", "als_values", {"rank": 8, "iterations": 5}, rated),
        ("taste.sums", "item_knn", {"weighting": "value"}, kinds),
    ):
        request = TrainRequest(data="seeds", family=family, name=name, params=params, prepare=PrepareSpec(**how))
        demo.client.wait(demo.client.send(model_calls.train_model(request)).id)
    for name, model in (("taste-sums", "taste.sums"), ("taste-values", "taste.values")):
        file = f"shelf: {name}\ncandidates: [{{model: {model}}}]\n{FALLBACK}"
        demo.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))


def scores(demo, shelf: str, **fields) -> dict[str, float]:
    answer = demo.client.send(calls.recommend(shelf, n=1000, **fields))
    return {place.item: place.score for place in answer.list}


def test_what_counts_thrice_scores_thrice_where_scores_are_sums(demo, shelves):
    """The scores of item_knn are sums over the history, each item's share in proportion to its cell."""
    one = scores(demo, "taste-sums", recent=PICKED[:1])
    assert scores(demo, "taste-sums", recent=PICKED[:1], values={PICKED[0]: 1.0}) == one
    thrice = scores(demo, "taste-sums", recent=PICKED[:1], values={PICKED[0]: 3.0})
    assert max(one.values()) > 0
    assert thrice == pytest.approx({item: 3 * score for item, score in one.items()}, rel=SINGLE)
    both = scores(demo, "taste-sums", recent=PICKED)
    other = scores(demo, "taste-sums", recent=PICKED[1:])
    much = scores(demo, "taste-sums", recent=PICKED, values={PICKED[0]: 3.0})
    assert both == pytest.approx({item: one[item] + other[item] for item in one}, rel=SUMMED, abs=SINGLE)
    assert much == pytest.approx({item: thrice[item] + other[item] for item in one}, rel=SUMMED, abs=SINGLE)


def test_values_are_taken_on_the_scale_of_a_model_that_predicts_them(demo, shelves):
    mine = scores(demo, "taste-values", recent=PICKED, values={PICKED[0]: 5.0, PICKED[1]: 1.0})
    request = ListsRequest(items=PICKED, values=[5.0, 1.0], n=1000, include_known=True)
    answer = demo.client.send(calls.model_lists("taste.values", request)).lists[0]
    assert mine == pytest.approx({place.item: place.score for place in answer.list}, abs=SINGLE)
    turned = scores(demo, "taste-values", recent=PICKED, values={PICKED[0]: 1.0, PICKED[1]: 5.0})
    assert turned != mine


def test_what_is_said_now_holds_instead_of_what_was_known(demo, shelves):
    request = ListsRequest(users=["g-0417"], n=1000, include_known=True)
    trained = {p.item: p.score for p in demo.client.send(calls.model_lists("taste.sums", request)).lists[0].list}
    [known] = [row.item for row in demo.client.send(calls.history("seeds", 1, "g-0417")).rows if row.kind == "request"][
        :1
    ]
    alone = scores(demo, "taste-sums", recent=[known])
    listed = [scores(demo, "taste-sums", user="g-0417", recent=[known], values={known: value}) for value in (1.0, 2.0)]
    assert listed[0] != pytest.approx(trained)
    added = {item: listed[1][item] - listed[0][item] for item in alone}
    assert added == pytest.approx(alone, rel=SOLVED, abs=SUMMED)


@pytest.mark.parametrize(
    ("shelf", "fields", "says"),
    [
        ("taste-values", {"values": {PICKED[0]: 7.0}}, "7 for 'v-0010' is outside the scale of taste.values@1, 1 to 5"),
        ("taste-sums", {"values": {PICKED[0]: 0.0}}, "0 for 'v-0010': taste.sums@1 takes how much an item counts"),
        ("taste-sums", {"values": {"v-0001": 1.0}}, "values names 'v-0001', which is not among recent"),
        ("taste-sums", {"show": ["colour"]}, "there is no item column 'colour' to show; there are: name, family"),
    ],
)  # fmt: skip
def test_what_does_not_fit_is_refused(demo, shelves, shelf, fields, says):
    with pytest.raises(RefusedError, match=says):
        demo.client.send(calls.recommend(shelf, recent=PICKED, **fields))


def test_a_request_names_the_columns_it_wants(demo, shelves):
    place = demo.client.send(calls.recommend("taste-sums", recent=PICKED, show=["family", "stock"])).list[0]
    assert list(place.columns) == ["family", "stock"]
    assert demo.client.send(calls.recommend("taste-sums", recent=PICKED, show=[])).list[0].columns == {}
    path = "/v1/shelves/taste-sums/recommendations"
    [first, *_] = demo.http.get(path, params={"show": ["zone_from"], "n": 2}).json()["list"]
    assert list(first["columns"]) == ["zone_from"]
    [first, *_] = demo.http.get(path, params={"n": 2}).json()["list"]
    assert list(first["columns"]) == ["name"]
    assert demo.http.get(path, params={"show": "colour"}).status_code == 422


def test_the_command_says_what_items_measure(demo, shelves):
    at = {"GLEANER_URL": demo.url}
    code, out, _ = call(
        "shelf", "try", "taste-values", "--recent", "v-0010", "--value", "v-0010=5", "--show", "family", **at
    )
    assert (code, "family" in out) == (0, True)
    code, _, err = call("shelf", "try", "taste-values", "--recent", "v-0010", "--value", "v-0010", **at)
    assert (code, "--value takes ID=VALUE with a number, not 'v-0010'" in err) == (2, True)
