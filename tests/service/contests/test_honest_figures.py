"""Figures that could mislead say on what they rest: at the board, in a comparison, in an explanation."""

from __future__ import annotations

import numpy as np
import pytest

from gleaner.client import calls, contest_calls, model_calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.imports import Roles
from gleaner.wire.models.training import TrainRequest

ROLES = Roles(user="user", item="item", value="value", time="time")


@pytest.fixture(scope="module")
def shop(stack):
    drawn = np.random.default_rng(8)
    lines = ["user,item,value,time"]
    for user in range(60):
        for item in drawn.choice(20, 9, replace=False):
            lines.append(f"u{user},i{item},{drawn.integers(1, 6)},2026-01-{drawn.integers(1, 29):02}T10:00:00Z")
    items = "item,title\n" + "".join(f"i{n},Pea number {n}\n" for n in range(20))
    stack.add("honest", "\n".join(lines) + "\n", ROLES, items=items)
    return stack


def contest(stack, name: str, metrics: str, decide_by: str, validation: float, use: str, contenders: str):
    text = (
        f"contest: {name}\ndata: honest@1\nprepare: {{use: {use}}}\n"
        f"split: {{by: rows, test: 0.2, validation: {validation}}}\n"
        f"contenders: {contenders}\nrank: {{metrics: [{metrics}], decide_by: {decide_by}}}\n"
    )
    run = stack.client.send(contest_calls.run_contest(FileRequest(file=text)))
    stack.client.wait(run.job)
    return stack.client.send(contest_calls.run(run.name))


@pytest.fixture(scope="module")
def of_values(shop):
    return contest(shop, "honest-values", "rmse", "rmse", 0, "values", "[mean_value, {als_values: {rank: 3}}]")


@pytest.fixture(scope="module")
def of_lists(shop):
    contenders = "[popular, item_knn, {als: {rank: 4}}]"
    return contest(shop, "honest-lists", "ndcg, recall, coverage", "ndcg@10", 0.2, "weights", contenders)


def test_a_winner_that_the_test_part_chose_is_called_optimistic(shop, of_values, of_lists):
    assert (of_values.chosen_on, of_lists.chosen_on) == ("test", "validation")
    assert "the winner's figure is optimistic" in of_values.caution
    assert of_lists.caution is None
    for run, text in ((of_values, True), (of_lists, False)):
        board = shop.gleaner("contest", "show", run.name).stdout
        assert ("the winner's figure is optimistic" in board) is text
        assert f"best on {run.decide_by} of the {run.chosen_on} part" in board
        report = shop.client.send(contest_calls.report(run.name)).decode()
        assert ("figure is optimistic" in report) is text
        assert ("which chose nothing," in report) is not text


def test_a_difference_of_values_says_on_what_it_rests(of_values, of_lists):
    assert "means over users, each by the rmse of their own values" in of_values.comparison.summary[-1]
    assert not [line for line in of_lists.comparison.summary if "own values" in line]


@pytest.mark.parametrize("width", ["80", "200"])
def test_every_figure_of_the_board_has_its_interval(shop, of_lists, width):
    board = shop.gleaner("contest", "show", of_lists.name, COLUMNS=width).stdout
    for standing in of_lists.standings:
        recall, coverage = standing.figure("recall@10"), standing.figure("coverage@10")
        assert f"{recall.mean:.4f} ±{(recall.high - recall.low) / 2:.4f}" in board
        # one figure of all lists together has no interval over users
        assert coverage.low is None
        assert f"{coverage.mean:.4f}" in board
        assert f"{coverage.mean:.4f} ±" not in board


def test_an_explanation_names_items_and_says_why_sum_and_score_are_apart(shop):
    job = shop.client.send(
        calls.train_model(TrainRequest(data="honest@1", family="als", name="honest.als", params={"rank": 4}))
    )
    model = shop.client.wait(job.id).result["model"]
    answer = [shop.client.send(model_calls.explain(model, f"u{n}", "i3", 4)) for n in range(20)]
    for each in answer:
        assert (each.apart is None) == (f"{each.result:.4f}" == f"{each.score:.4f}")
    apart = [each for each in answer if each.apart]
    assert apart
    assert f"the score itself is {apart[0].score:.4f}: " in apart[0].apart
    printed = shop.gleaner("model", "explain", model, "--user", apart[0].user, "--item", "i3").stdout
    assert apart[0].apart in " ".join(printed.split())
    assert {term.name for term in answer[0].terms if term.name} <= {f"Pea number {n}" for n in range(20)}
    assert answer[0].terms[0].name == f"Pea number {answer[0].terms[0].id[1:]}"


def test_the_memory_of_a_fit_is_its_own_and_not_the_process(of_lists):
    # a fit of sixty users takes less than the hundreds of megabytes that a process has with its libraries alone
    assert all(standing.peak_memory_mb < 100 for standing in of_lists.standings)
