"""Shelves of several sources, against what the models and the demo's own tables say in plain Python."""

from __future__ import annotations

import json
import re
from collections import Counter
from datetime import timedelta
from pathlib import Path

import numpy as np
import polars as pl
import pytest

import gleaner.demo
from gleaner.client import NotFoundError, RefusedError, calls, event_calls, shelf_calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.events import Event
from gleaner.wire.imports import Roles
from gleaner.wire.models.lists import ListsRequest
from gleaner.wire.models.training import TrainRequest
from stack import Stack
from tolerances import KEPT, SOLVED, SUMMED

USER = "g-0417"
DATA = Path(gleaner.demo.__file__).parent / "data"
FALLBACK = "fallback: [{model: first-look.popular}]\n"
EVENTS = """SELECT item_id FROM events JOIN datasets ON datasets.id = dataset_id
WHERE kind = 'request' AND datasets.name = 'seeds'"""


def publish(demo: Stack, name: str, text: str, fallback: str = FALLBACK) -> str:
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=f"shelf: {name}\n{text}{fallback}")))
    return name


def ask(demo: Stack, shelf: str, user: str | None = USER, n: int = 1000, **more):
    return demo.client.send(shelf_calls.recommend(shelf, user=user, n=n, **more))


def items(answer) -> list[str]:
    return [place.item for place in answer.list]


def scores_of(demo: Stack, model: str, user: str = USER) -> dict[str, float]:
    request = ListsRequest(users=[user], n=1000, include_known=True)
    return {p.item: p.score for p in demo.client.send(calls.model_lists(model, request)).lists[0].list}


def rows() -> pl.DataFrame:
    return pl.read_csv(DATA / "interactions.csv.gz", try_parse_dates=True)


def test_each_source_brings_its_share_and_one_model_scores_them_all(demo):
    fixed = [*items(ask(demo, "for-growers"))[-3:], "not-there"]
    sources = f"[{{model: first-look.als, take: 15}}, {{model: first-look.item_knn, take: 10}}, {{items: {fixed}}}]"
    shelf = publish(demo, "so-shares", f"candidates: {sources}\n")
    answer = ask(demo, shelf)
    by_source = {}
    for place in answer.list:
        by_source.setdefault(place.source, []).append(place.item)
    als = items(demo.client.send(calls.model_recommend("first-look.als", USER, 15)))
    knn = items(demo.client.send(calls.model_recommend("first-look.item_knn", USER, 10)))
    assert set(items(answer)) == set(als) | set(knn) | set(fixed[:3])
    # what several bring is told as the first's
    assert set(by_source["first-look.als@1"]) == set(als)
    assert set(by_source["first-look.item_knn@1"]) == set(knn) - set(als)
    assert set(by_source["items"]) == set(fixed[:3]) - set(als) - set(knn)
    scores = scores_of(demo, "first-look.als")
    assert [place.score for place in answer.list] == pytest.approx([scores[item] for item in items(answer)], rel=SUMMED)
    assert items(answer) == sorted(items(answer), key=lambda item: -scores[item])
    assert answer.fallback is None


def test_a_blend_adds_standardised_scores(demo):
    score = "score: {blend: {first-look.als: 0.7, first-look.item_knn: 0.3}}\n"
    shelf = publish(demo, "so-blend", "candidates: [{model: first-look.als, take: 40}]\n" + score)
    answer = ask(demo, shelf)
    pool = items(demo.client.send(calls.model_recommend("first-look.als", USER, 40)))
    total = np.zeros(len(pool))
    for model, weight in (("first-look.als", 0.7), ("first-look.item_knn", 0.3)):
        scores = scores_of(demo, model)
        mine = np.array([scores[item] for item in pool])
        total += weight * (mine - mine.mean()) / mine.std()
    expected = dict(zip(pool, total, strict=True))
    assert {place.item: place.score for place in answer.list} == pytest.approx(expected, rel=SOLVED, abs=SOLVED)
    assert [place.score for place in answer.list] == sorted((place.score for place in answer.list), reverse=True)


def test_what_is_popular_within_a_window_is_counted_from_the_newest_row(demo):
    # an event is a row, and the newest: the window is told from it
    demo.client.send(event_calls.send_events("seeds", [Event(user="so-now", item="v-0600", kind="request")]))
    demo.client.send(event_calls.send_events("seeds", [Event(user="so-now", item="v-0600", kind="view")]))
    shelf = publish(demo, "so-popular", "candidates: [{popular: {days: 3650, kinds: [request]}, take: 50}]\n")
    answer = ask(demo, shelf, None)
    counts = Counter(rows().filter(pl.col("kind") == "request")["variety"].to_list())
    counts.update(item for (item,) in demo.sql(EVENTS))
    known = {place.item for place in ask(demo, "for-growers", None).list}
    best = sorted((count for item, count in counts.items() if item in known), reverse=True)[:50]
    assert sorted((counts[item] for item in items(answer)), reverse=True) == best
    assert {place.source for place in answer.list} == {"popular, 3650 days"}
    # the same for everyone, in its own order, for no model scores it
    assert [place.score for place in answer.list] == sorted((place.score for place in answer.list), reverse=True)


def test_what_trends_is_what_has_more_than_its_share(demo):
    text = "candidates: [{trending: {days: 3000, usual_days: 300}, take: 20}]\nscore: {model: first-look.als}\n"
    answer = ask(demo, publish(demo, "so-trending", text))
    frame = rows().select("variety", "at").rename({"variety": "item"})
    output = demo.sql("SELECT item_id, at FROM events e JOIN datasets d ON d.id = dataset_id WHERE d.name = 'seeds'")
    moments = [(item, at.timestamp()) for item, at in output] + [
        (item, at.timestamp()) for item, at in frame.select("item", "at").iter_rows()
    ]
    last = max(at for _, at in moments)
    start = last - timedelta(days=3000).total_seconds()
    recent = Counter(item for item, at in moments if at >= start)
    usual = Counter(item for item, at in moments if start - timedelta(days=300).total_seconds() <= at < start)
    assert not usual
    # nothing came before, so what is expected is none, and the score is the count itself
    free = set(items(ask(demo, "for-growers")))
    best = sorted((count for item, count in recent.items() if item in free), reverse=True)[:20]
    assert sorted((recent[item] for item in items(answer)), reverse=True) == best


def test_items_like_those_touched_last(demo):
    text = "candidates: [{like: {model: first-look.item_knn, last: 2}, take: 12}]\nscore: {model: first-look.popular}\n"
    shelf = publish(demo, "so-like", text)
    recent = ["v-0001", "v-0010", "v-0072"]
    answer = ask(demo, shelf, None, recent=recent)
    sums: Counter[str] = Counter()
    for seed in recent[-2:]:
        for each in demo.client.send(calls.similar("first-look.item_knn", "item", seed, 500)).list:
            sums[each.id] += each.likeness
    for item in recent:
        sums.pop(item, None)
    best = sorted(sums.values(), reverse=True)[:12]
    assert sorted((sums[item] for item in items(answer)), reverse=True) == pytest.approx(best, rel=KEPT)
    assert {place.source for place in answer.list} == {"like, first-look.item_knn@1"}
    # of events where the request names none, and of the rows of the version before those
    demo.client.send(event_calls.send_events("seeds", [Event(user="so-liker", item=i, kind="view") for i in recent]))
    assert items(ask(demo, shelf, "so-liker")) == items(answer)
    seeds = rows().filter(pl.col("grower") == USER).sort("at", descending=True)["variety"].unique(maintain_order=True)
    likes = {
        each.id
        for seed in seeds[:2]
        for each in demo.client.send(calls.similar("first-look.item_knn", "item", seed, 500)).list
    }
    assert set(items(ask(demo, shelf))) <= likes


def test_what_goes_together_with_a_basket(demo):
    text = "candidates: [{together: {model: first-look.item_knn}, take: 10}]\nscore: {model: first-look.popular}\n"
    basket = ["v-0010", "v-0072", "v-0544"]
    answer = ask(demo, publish(demo, "so-basket", text), None, recent=basket)
    expected = demo.client.send(calls.model_lists("first-look.item_knn", ListsRequest(items=basket, n=10))).lists[0]
    assert set(items(answer)) == {place.item for place in expected.list}


def test_another_shelf_is_a_source_as_it_was_when_this_one_was_published(demo):
    publish(demo, "so-inner", "candidates: [{items: [v-0010, v-0072]}]\n")
    outer = publish(demo, "so-outer", "candidates: [{shelf: so-inner}, {items: [v-0600]}]\nleave_out: []\n")
    publish(demo, "so-inner", "candidates: [{items: [v-0001]}]\n")
    answer = ask(demo, outer, None)
    assert sorted(items(answer)) == ["v-0010", "v-0072", "v-0600"]
    assert {place.source for place in answer.list} == {"shelf so-inner@1", "items"}
    spec = demo.client.send(shelf_calls.shelf(outer)).spec
    assert spec.candidates[0].shelf == "so-inner@1"


def test_a_list_is_spread_out_by_a_column(demo):
    source = "candidates: [{model: first-look.als, take: 60}]\nshow: [family]\n"
    plain = ask(demo, publish(demo, "so-plain", source))
    spread = ask(demo, publish(demo, "so-spread", source + "order: {diversify: {weight: 1, by: family}}\n"))
    families = list(dict.fromkeys(place.columns["family"] for place in plain.list))
    first = [place.columns["family"] for place in spread.list[: len(families)]]
    assert sorted(first) == sorted(families)
    assert sorted(items(spread)) == sorted(items(plain))
    assert spread.list[0].item in items(plain)
    by_factors = ask(demo, publish(demo, "so-factors", source + "order: {diversify: {weight: 0.3}}\n"))
    assert items(by_factors)[0] == items(plain)[0]
    assert sorted(items(by_factors)) == sorted(items(plain))


def test_a_drawn_list_says_with_what_chance_each_item_stands_there(demo):
    source = "candidates: [{model: first-look.als, take: 30}]\norder: {sample: {temperature: 0.7}}\n"
    shelf = publish(demo, "so-drawn", source)
    answers = [ask(demo, shelf) for _ in range(4)]
    assert len({tuple(items(answer)) for answer in answers}) > 1
    for answer in answers:
        scores = np.array([place.score for place in answer.list])
        worth = np.exp((scores - scores.max()) / (scores.std() * 0.7))
        expected = [worth[at] / worth[at:].sum() for at in range(len(worth))]
        assert [place.propensity for place in answer.list] == pytest.approx(expected, rel=SUMMED)
    assert all(place.propensity is None for place in ask(demo, "for-growers", n=3).list)


def test_given_candidates_are_ordered_and_nothing_else_is_listed(demo):
    history = [row.item for row in demo.client.send(calls.history("seeds", 1, USER, limit=500)).rows]
    given = ["v-0600", "v-0010", history[0], "v-0072", "not-there"]
    answer = ask(demo, "for-growers", candidates=given, n=10)
    scores = scores_of(demo, "first-look.als")
    # what the user has stays in: whoever names candidates wants them ordered
    assert items(answer) == sorted((item for item in given if item in scores), key=lambda item: -scores[item])
    assert {place.source for place in answer.list} == {"given"}
    asking = publish(demo, "so-asking", "candidates: [{model: first-look.als}]\nrequests: {history: true}\n")
    narrowed = ask(demo, asking, candidates=given, n=10, where="item NOT IN history()")
    assert items(narrowed) == [item for item in items(answer) if item not in history]
    anyone = ask(demo, "for-growers", None, candidates=given, n=10)
    counts = {p.item: p.score for p in ask(demo, "for-growers", None, n=1000).list}
    assert items(anyone) == sorted((item for item in given if item in counts), key=lambda item: -counts[item])
    assert anyone.fallback.startswith("first-look.popular@1: no user was named")
    assert items(ask(demo, "for-growers", candidates=["not-there"], n=3)) == []
    post = demo.http.post("/v1/shelves/for-growers/recommendations", json={"candidates": ["v-0010"], "user": "new"})
    assert [place["item"] for place in post.json()["list"]] == ["v-0010"]


def test_who_is_unknown_to_every_source_that_asks_gets_the_first_step_that_has_anything(demo):
    sources = "candidates: [{model: first-look.als, take: 20}, {items: [v-0600]}]\n"
    chain = "fallback: [{items: [nowhere]}, {popular: {days: 3650}}, {model: first-look.popular}]\n"
    shelf = publish(demo, "so-chain", sources, chain)
    assert ask(demo, shelf).fallback is None
    answer = ask(demo, shelf, "so-nobody", 5)
    assert answer.fallback == (
        "popular, 3650 days: user 'so-nobody' is not in the training data, and no recent items were given"
    )
    assert {place.source for place in answer.list} == {"popular, 3650 days"}
    assert ask(demo, shelf, "so-nobody", 5, recent=["v-0010"]).folded_in
    nothing = publish(
        demo,
        "so-none",
        "candidates: [{model: first-look.als, take: 5}]\nwhere: item IN history('view', INTERVAL '1' MINUTE)\n",
        chain,
    )
    assert ask(demo, nothing, n=5).fallback == f"first-look.popular@1: no source has anything for user '{USER}'"
    # sources that ask nobody serve everyone
    assert items(ask(demo, publish(demo, "so-fixed", "candidates: [{items: [v-0600]}]\n"), "so-nobody")) == ["v-0600"]


def test_someone_new_is_served_by_lookalikes(stack):
    likes = {"A": ["i0", "i1", "i2"], "B": ["i3", "i4", "i5"]}
    users = [(f"{zone}{n}", zone) for zone in "AB" for n in range(6)]
    text = "user,item\n" + "".join(
        f"{user},{item}\n" for n, (user, zone) in enumerate(users) for at, item in enumerate(likes[zone]) if at != n % 3
    )
    table = "user,zone\n" + "".join(f"{user},{zone}\n" for user, zone in [*users, ("new", "B"), ("odd", "C")])
    stack.add("alike", text, Roles(user="user", item="item"), users=table)
    for family, name in (("als", "alike-als"), ("popular", "alike-pop"), ("item_knn", "alike-knn")):
        params = {"rank": 3} if family == "als" else {}
        job = stack.client.send(
            calls.train_model(TrainRequest(data="alike@1", family=family, params=params, name=name))
        )
        stack.client.wait(job.id)
    steps = "fallback: [{lookalikes: {columns: [zone], users: 6}}, {model: alike-pop}]\n"
    for model in ("alike-als", "alike-knn"):
        publish(stack, model, f"candidates: [{{model: {model}}}]\n", steps)
        answer = ask(stack, model, "new")
        assert answer.fallback == (
            "lookalikes by zone: user 'new' is not in the training data, and no recent items were given"
        )
        assert {place.source for place in answer.list} == {"lookalikes by zone"}
        mates = [user for user, zone in users if zone == "B"]
        request = ListsRequest(users=mates, n=6, include_known=True)
        sums: Counter[str] = Counter()
        for each in stack.client.send(calls.model_lists(model, request)).lists:
            for place in each.list:
                sums[place.item] += place.score / len(mates)
        assert set(items(answer)[:3]) == {"i3", "i4", "i5"}
        for place in answer.list[:3]:
            assert place.score == pytest.approx(sums[place.item], rel=SUMMED)
        # nobody is like someone of a zone of their own, and nothing is known of someone the table lacks
        for user in ("odd", "stranger"):
            assert ask(stack, model, user).fallback.startswith(
                f"alike-pop@1: user {user!r} is not in the training data"
            )
    with pytest.raises(RefusedError, match="a window needs times, and no row of the data has one"):
        publish(stack, "alike-wrong", "candidates: [{popular: {days: 3}}]\n", "fallback: [{model: alike-pop}]\n")


def test_slots_hold_for_several_sources_and_for_the_unknown(demo):
    sources = "candidates: [{model: first-look.als, take: 40}, {items: [v-0600]}]\nshow: [surplus]\n"
    slots = "slots: {promoted: {where: surplus, places: [2]}, pinned: [{item: v-0601, place: 1}]}\n"
    shelf = publish(
        demo, "so-slots", sources + slots, "fallback: [{popular: {days: 3650}}, {model: first-look.popular}]\n"
    )
    for user in (USER, "so-unknown"):
        answer = ask(demo, shelf, user, 6)
        assert (answer.list[0].item, answer.list[0].source) == ("v-0601", "pinned")
        assert (answer.list[1].promoted, answer.list[1].columns["surplus"]) == (True, True)
        assert not any(place.promoted for place in answer.list[2:])
        assert len(set(items(answer))) == 6


WRONG = [
    ("candidates: [{model: first-look.als, items: [a]}]", 2, "name one source, of model, popular"),
    ("candidates: [{take: 3}]", 2, "there is none"),
    ("candidates: [{model: nobody.als}]", 2, "there is no model 'nobody.als'"),
    ("candidates: [{popular: {days: 0}}]", 2, "greater than 0"),
    ("candidates: [{popular: {days: 3, kinds: [bought]}}]", 2, "there is no kind 'bought'; there are: view"),
    ("candidates: [{shelf: not-there}]", 2, "there is no shelf 'not-there'"),
    ("candidates: [{like: {model: nobody.knn}}]", 2, "there is no model 'nobody.knn'"),
    ("candidates: [{model: first-look.als}]\nscore: {blend: {}}", 3, "name a model, or models to blend"),
    ("candidates: [{model: first-look.als}]\norder: {diversify: {weight: 2}}", 3, "less than or equal to 1"),
    (
        "candidates: [{model: first-look.als}]\norder: {diversify: {weight: 1, by: colour}}",
        3,
        "no item column 'colour'",
    ),
    ("candidates: [{model: first-look.item_knn}]\norder: {diversify: {weight: 1}}", 3, "has no factors"),
    ("candidates: [{model: first-look.als}]\norder: {}", 3, "diversify or sample, one of the two"),
    ("candidates: [{model: first-look.als}]\norder: {sample: {temperature: 0}}", 3, "greater than 0"),
]


@pytest.mark.parametrize(("text", "line", "message"), WRONG)
def test_a_source_that_does_not_fit_is_told_with_its_line_and_never_published(demo, text, line, message):
    file = FileRequest(file=f"shelf: so-wrong\n{text}\n{FALLBACK}")
    problems = demo.client.send(shelf_calls.check_shelf(file)).problems
    assert any(message in each.message and each.line == line for each in problems), problems
    with pytest.raises((RefusedError, NotFoundError)):
        demo.client.send(shelf_calls.publish_shelf(file))


@pytest.mark.parametrize(
    ("step", "message"),
    [
        ("{lookalikes: {columns: [age]}}", "there is no user column 'age'; there are: zone"),
        ("{trending: {days: 3, kinds: [bought]}}", "there is no kind 'bought'"),
        ("{model: first-look.als}", "no fallback serves someone unknown: first-look.als@1 needs a history"),
        ("{}", "name one step"),
    ],
)
def test_a_step_that_does_not_fit_is_told(demo, step, message):
    last = "" if "first-look.als" in step else ", {model: first-look.popular}"
    text = f"shelf: so-wrong\ncandidates: [{{model: first-look.als}}]\nfallback: [{step}{last}]\n"
    problems = demo.client.send(shelf_calls.check_shelf(FileRequest(file=text))).problems
    assert any(message in each.message and each.line == 3 for each in problems), problems


def test_a_list_that_is_explained_says_why_each_item_stands_there(demo):
    # of a trained user, the terms that add most to the score
    answer = ask(demo, "for-growers", n=3, explain=True)
    for place in answer.list:
        terms = demo.client.send(calls.explain("first-look.als", USER, place.item, 2)).terms
        named = " and ".join(f"{term.name} ({term.id})" for term in terms[:2])
        assert place.reason == f"mostly because of {named}"
    # of someone folded in, those of their items
    recent = ["v-0010", "v-0072", "v-0600"]
    for place in ask(demo, "for-growers", None, 3, recent=recent, explain=True).list:
        named = re.findall(r"\((v-\d+)\)", place.reason)
        assert place.reason.startswith("mostly because of ")
        assert 1 <= len(named) <= 2
        assert set(named) <= set(recent)
    # of everyone's list, whose it is; without being asked, nothing
    anyone = ask(demo, "for-growers", None, 2, explain=True)
    assert {place.reason for place in anyone.list} == {"what everyone gets from first-look.popular@1 (popular)"}
    assert {place.reason for place in ask(demo, "for-growers", n=3).list} == {None}
    slots = "slots: {promoted: {where: surplus, places: [2]}, pinned: [{item: v-0601, place: 1}]}\n"
    shelf = publish(demo, "so-why", "candidates: [{model: first-look.als, take: 9}, {items: [v-0600]}]\n" + slots)
    reasons = [place.reason for place in ask(demo, shelf, n=4, explain=True).list]
    assert reasons[0] == "pinned to this place"
    assert reasons[1].startswith("promoted (surplus); mostly because of ")
    output = demo.gleaner("shelf", "try", "for-growers", "--user", USER, "-n", "2", "--why").stdout
    assert f"  1. {answer.list[0].item}: {answer.list[0].reason}" in output


def test_two_shelves_are_shown_side_by_side(demo):
    publish(demo, "so-side", "candidates: [{model: first-look.item_knn}]\n")
    mine, other = items(ask(demo, "for-growers", n=8)), items(ask(demo, "so-side", n=8))
    shown = demo.gleaner("shelf", "try", "for-growers", "--user", USER, "-n", "8", "--beside", "so-side@1")
    lines = shown.stdout.splitlines()
    head = next(line for line in lines if "there at" in line)
    assert head.index("for-growers@1") < head.index("so-side@1")
    first = next(line for line in lines if line.split()[:1] == ["1"])
    at = str(other.index(mine[0]) + 1) if mine[0] in other else "not"
    assert re.search(rf"\({mine[0]}\)\s+{at}\s+{other[0]}", first), first
    both, same = set(mine) & set(other), sum(a == b for a, b in zip(mine, other, strict=True))
    assert f"{len(both)} of 8 stand in both, {same} at the same place" in shown.stdout
    again = demo.gleaner("shelf", "try", "for-growers", "--user", USER, "--beside", "for-growers@1", "--json")
    assert [each["shelf"] for each in json.loads(again.stdout)] == ["for-growers", "for-growers"]
