"""A shelf evaluated before it is served: against lists asked of its models one by one, and counted by hand."""

from __future__ import annotations

from math import log2

import numpy as np
import pytest

from commands import call
from gleaner.client import NotFoundError, RefusedError, calls, shelf_calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.shelves.evaluations import EvaluateShelfRequest, ShelfEvaluation
from stack import Stack

USERS, ITEMS, EACH, CUT = 60, 25, 8, 3
CONTEST = """\
contest: evaluated
data: evaluated@1
split: {by: last, test: 1, validation: 1}
rank: {metrics: [ndcg, recall], at: [3], decide_by: ndcg@3}
contenders: [popular, {als: {rank: 4, iterations: 4}}, {item_knn: {neighbours: 5}}]
"""
PLAIN = "shelf: plain\ncandidates: [{model: evaluated.als}]\nfallback: [{model: evaluated.popular}]\n"
STAGES = """\
shelf: in-stages
candidates: [{model: evaluated.als, take: 6}, {model: evaluated.item_knn, take: 4}]
score: {model: evaluated.als}
where: "family != 'bean'"
slots: {pinned: [{item: i1, place: 1}]}
fallback: [{model: evaluated.popular}]
"""


def world() -> dict[str, list[str]]:
    """Eight items of every user in the order of time; whoever likes one half of the items rarely takes of the other."""
    drawn = np.random.default_rng(5)
    chances = np.where(np.arange(ITEMS) % 2 == 0, 6.0, 1.0)
    return {
        f"u{user}": [
            f"i{item}"
            for item in drawn.choice(ITEMS, EACH, replace=False, p=np.roll(chances, user % 2) / chances.sum())
        ]
        for user in range(USERS)
    }


def family_of(item: str) -> str:
    return ("pea", "bean", "kale")[int(item[1:]) % 3]


@pytest.fixture(scope="module")
def run(stack: Stack):
    lines = ["user,item,kind,time,value"]
    for user, items in world().items():
        lines += [f"{user},{item},view,2026-01-{day:02}T00:00:00Z,1" for day, item in enumerate(items, start=1)]
    items = "id,family\n" + "".join(f"i{item},{family_of(f'i{item}')}\n" for item in range(ITEMS))
    stack.add("evaluated", "\n".join(lines) + "\n", items=items)
    return stack.run_contest(CONTEST)


def evaluated(stack: Stack, file: str, users: int = 5_000) -> ShelfEvaluation:
    request = EvaluateShelfRequest(file=FileRequest(file=file), beside="evaluated", users=users)
    job = stack.client.wait(stack.client.send(shelf_calls.evaluate_shelf(request)).id)
    return stack.client.send(shelf_calls.shelf_evaluation(job.id))


def listed(stack: Stack, model: str, user: str) -> list[str]:
    """Everything that a model would list of what the user does not have."""
    return [place.item for place in stack.client.send(calls.model_recommend(model, user, n=ITEMS)).list]


def ndcg(lists: dict[str, list[str]], wanted: dict[str, str]) -> float:
    """Of one relevant item for each user."""
    places = [lists[user].index(item) for user, item in wanted.items() if item in lists[user][:CUT]]
    return sum(1 / log2(place + 2) for place in places) / len(wanted)


def figure(figures, name: str) -> float:
    return next(each.mean for each in figures if each.metric == name)


def test_a_shelf_of_one_model_does_as_the_contender_it_comes_from(stack, run):
    evaluation = evaluated(stack, PLAIN)
    als = next(each for each in run.standings if each.contender == "als")
    for name in ("ndcg@3", "recall@3"):
        # figures by user are kept as float32
        assert figure(evaluation.figures, name) == pytest.approx(als.figure(name).mean, rel=1e-6)
    assert (evaluation.candidates, evaluation.variants, evaluation.price) == (None, [], [])
    pair = next(each for each in evaluation.comparison.pairs if {each.first, each.second} == {"shelf plain", "als"})
    assert pair.difference == 0
    assert pair.verdict == "cannot tell"
    assert (evaluation.users, evaluation.users_of_part, evaluation.for_everyone) == (USERS, USERS, 0)
    assert [(each.model, each.by_the_run) for each in evaluation.models] == [
        ("evaluated.als", True),
        ("evaluated.popular", True),
    ]
    assert {each.stage for each in evaluation.stages} >= {"history", "candidates", "ranking"}


def test_every_stage_counted_by_hand(stack, run):
    evaluation = evaluated(stack, STAGES)
    wanted = {user: items[-1] for user, items in world().items()}
    als, knn = ({user: listed(stack, f"evaluated.{name}", user) for user in wanted} for name in ("als", "item_knn"))
    can_be = {user: {item for item in als[user] if family_of(item) != "bean"} for user in wanted}
    sources = [
        {user: [item for item in lists[user] if item in can_be[user]][:take] for user in wanted}
        for lists, take in ((als, 6), (knn, 4))
    ]
    together = {user: set(sources[0][user]) | set(sources[1][user]) for user in wanted}
    for told, brought in zip(evaluation.candidates.sources, [*sources, together], strict=True):
        assert told.taken == pytest.approx(np.mean([len(brought[user]) for user in wanted]))
        assert told.recall.mean == pytest.approx(np.mean([wanted[user] in brought[user] for user in wanted]))
    scored = {user: [item for item in als[user] if item in together[user]] for user in wanted}
    there = {user: item for user, item in wanted.items() if item in together[user]}
    assert evaluation.candidates.users == len(there)
    assert figure(evaluation.candidates.scored, "ndcg@3") == pytest.approx(ndcg(scored, there))
    # i1 is pinned to the first place of whoever may be listed it, and it is a bean: nobody
    assert family_of("i1") == "bean"
    assert figure(evaluation.figures, "ndcg@3") == pytest.approx(ndcg(scored, wanted))
    without = {each.label: figure(each.figures, "ndcg@3") for each in evaluation.variants}
    assert set(without) == {"without slots", "without its condition", "as the sources bring them"}


def test_what_a_condition_costs_is_told_in_pairs(stack, run):
    evaluation = evaluated(stack, STAGES)
    assert {each.second for each in evaluation.price} == {each.label for each in evaluation.variants}
    for pair in evaluation.price:
        other = next(each for each in evaluation.variants if each.label == pair.second)
        gap = figure(evaluation.figures, "ndcg@3") - figure(other.figures, "ndcg@3")
        assert pair.difference == pytest.approx(gap)
        assert pair.first == "shelf in-stages"


def test_users_are_drawn(stack, run):
    evaluation = evaluated(stack, PLAIN, users=20)
    assert (evaluation.users, evaluation.users_of_part) == (20, USERS)
    again = evaluated(stack, PLAIN, users=20)
    assert again.figures == evaluation.figures


def test_the_command_tells_it_stage_by_stage(stack, run, tmp_path):
    path = tmp_path / "in-stages.yaml"
    path.write_text(STAGES)
    code, out, err = call("shelf", "evaluate", str(path), "--beside", "evaluated", GLEANER_URL=stack.url)
    assert code == 0, err
    for text in (
        "all together",
        "given the candidates",
        "without its condition",
        "as served",
        "milliseconds of a list",
    ):
        assert text in out


def test_what_cannot_be_evaluated_is_refused(stack, run, demo):
    def refused(match: str, error: type[Exception] = RefusedError, **request) -> None:
        with pytest.raises(error, match=match):
            stack.client.send(shelf_calls.evaluate_shelf(EvaluateShelfRequest(**request)))

    refused("there is no contest run", NotFoundError, shelf="for-growers", beside="nowhere")
    refused("there is no shelf", NotFoundError, shelf="nowhere", beside="evaluated")
    refused(r"was trained on seeds@1, and evaluated@1 is about evaluated@1", shelf="for-growers", beside="evaluated")
    wrong = FileRequest(file=PLAIN.replace("evaluated.als", "evaluated.asl"), name="plain.yaml")
    refused("plain.yaml:2: .*evaluated.asl", file=wrong, beside="evaluated")
    with pytest.raises(ValueError, match="one of both"):
        EvaluateShelfRequest(beside="evaluated")
    with pytest.raises(NotFoundError, match="has no evaluation"):
        stack.client.send(shelf_calls.shelf_evaluation(1))
