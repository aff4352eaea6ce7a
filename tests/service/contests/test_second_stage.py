"""A second stage in a contest, as a model, and as what scores the candidates of a shelf."""

from __future__ import annotations

import pytest

from gleaner.client import RefusedError, calls, contest_calls, job_calls, model_calls
from gleaner.wire.contests.contest import FileRequest

CONTEST = """contest: staged
data: seeds@1
prepare: {kinds: {view: 1, save: 3, request: 5}, min_user: 5, min_item: 5}
split: {by: time, test: 0.1, validation: 0.1}
rank: {metrics: [ndcg], at: [10], decide_by: ndcg@10}
contenders:
  - second_stage: {members: [item_knn, {als: {rank: 8}}, popular], folds: 2, rounds: 10, candidates: 50}
    without: [members.als, second_stage]
  - item_knn
  - als: {rank: 8}
  - blend: {members: [item_knn, {als: {rank: 8}}]}
seed: 1
"""
SHELF = """shelf: staged
title: In two stages
candidates: [{model: staged.item_knn, take: 30}, {model: staged.als, take: 30}]
score: {model: staged.second_stage}
fallback: [{model: staged.popular}]
"""


@pytest.fixture(scope="module")
def staged(demo):
    return demo.run_contest(CONTEST)


def test_members_that_are_contenders_are_fitted_once(demo, staged):
    log = [line.text for line in demo.client.send(job_calls.job(staged.job)).log]
    for label, members in {"second_stage": "item_knn, als, popular", "blend": "item_knn, als"}.items():
        text = f"{label}: {members} were fitted before, and their time is not counted again"
        # for validation, and for the test
        assert log.count(text) == 2


def test_what_a_member_and_the_order_add_is_a_line_each(staged):
    of = {each.contender: each for each in staged.standings}
    lacking = of["second_stage-without-members-als"]
    assert (lacking.family, lacking.params["members"]) == ("second_stage", ["item_knn", "popular"])
    assert lacking.params["rounds"] == 10
    fused = of["second_stage-without-second_stage"]
    assert (fused.family, fused.params["members"]) == ("blend_ranks", ["item_knn", {"als": {"rank": 8}}, "popular"])
    whole = of["second_stage"].figure("ndcg@10").mean
    for each in staged.comparison.ablations:
        assert each.contender == "second_stage"
        assert each.difference == pytest.approx(whole - of[each.without].figure("ndcg@10").mean)
    assert {each.lacks for each in staged.comparison.ablations} == {"members.als", "second_stage"}


@pytest.mark.parametrize(
    ("contender", "mistake"),
    [
        ("second_stage: {members: [item_knn, als]}, without: [members.bpr]", "second_stage has no such member"),
        ("blend: {members: [item_knn, als]}, without: [members.als]", "too few members would be left"),
        ("als: {}, without: [members.als]", "als has no members; those that do: blend, blend_ranks, second_stage"),
        ("als: {}, without: [second_stage]", "als has no learned order to leave out"),
    ],
)
def test_what_cannot_be_left_out_is_said(demo, contender, mistake):
    with pytest.raises(RefusedError) as refused:
        demo.client.send(
            contest_calls.run_contest(FileRequest(file=f"contest: c\ndata: seeds@1\ncontenders: [{{{contender}}}]\n"))
        )
    assert mistake in str(refused.value)


def test_the_card_says_what_the_order_rests_on(demo, staged):
    card = demo.client.send(model_calls.model("staged.second_stage"))
    shares = list(card.importance.values())
    assert shares == sorted(shares, reverse=True)
    # rounded to six places, and the first hundred of them
    assert sum(shares) == pytest.approx(1.0, abs=1e-4)
    assert "als: score" in card.importance


def test_a_shelf_is_ordered_by_it_and_says_by_what(demo, staged):
    demo.client.send(calls.publish_shelf(FileRequest(file=SHELF)))
    answer = demo.client.send(calls.recommend("staged", user="g-0417", n=10, explain=True))
    whole = demo.client.send(model_calls.model_recommend("staged.second_stage", "g-0417", 1000))
    scores = {each.item: each.score for each in whole.list}
    assert [each.score for each in answer.list] == [scores[each.item] for each in answer.list]
    assert [each.score for each in answer.list] == sorted((each.score for each in answer.list), reverse=True)
    explained = demo.client.send(model_calls.explain("staged.second_stage", "g-0417", answer.list[0].item, 50))
    assert explained.start + sum(term.columns["adds"] for term in explained.terms) == pytest.approx(
        explained.score, abs=1e-4
    )
    most = max(explained.terms, key=lambda term: term.columns["adds"])
    assert answer.list[0].reason.startswith(f"mostly by {most.id}")
