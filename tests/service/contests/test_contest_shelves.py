"""A contest that names shelves: published, in a file beside it, or right there."""

from __future__ import annotations

import numpy as np
import pytest

from gleaner.cli.contests.commands import contest_file
from gleaner.client import RefusedError, contest_calls, shelf_calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.shelves.evaluations import EvaluateShelfRequest
from stack import Stack

CONTEST = """\
contest: with-shelves
data: shelved@1
split: {by: last, test: 1, validation: 1}
rank: {metrics: [ndcg, recall], at: [3], decide_by: ndcg@3}
contenders: [popular, {als: {rank: 4, iterations: 4}}, {item_knn: {neighbours: 5}}]
shelves:
  - beside.yaml
  - shelf: right-here
    candidates: [{model: als, take: 6}, {model: item_knn, take: 6}]
    score: {model: item_knn}
    fallback: [{model: popular}]
"""
BESIDE = "shelf: beside\ncandidates: [{model: als}]\nfallback: [{model: popular}]\n"
PUBLISHED = "shelf: on-show\ncandidates: [{model: first.bpr}]\nfallback: [{model: first.popular}]\n"
FIRST = """\
contest: first
data: shelved@1
split: {by: last, test: 1, validation: 1}
rank: {metrics: [ndcg], at: [3], decide_by: ndcg@3}
contenders: [popular, {bpr: {rank: 3, iterations: 5}}]
"""


@pytest.fixture(scope="module")
def data(stack: Stack) -> Stack:
    drawn = np.random.default_rng(9)
    lines = ["user,item,kind,time,value"]
    for user in range(50):
        items = drawn.choice(20, 7, replace=False)
        lines += [f"u{user},i{item},view,2026-01-{day:02}T00:00:00Z,1" for day, item in enumerate(items, start=1)]
    stack.add("shelved", "\n".join(lines) + "\n", items="id,family\n" + "".join(f"i{n},pea\n" for n in range(20)))
    stack.run_contest(FIRST)
    stack.client.send(shelf_calls.publish_shelf(FileRequest(file=PUBLISHED)))
    return stack


def text_of(stack: Stack, *arguments: str) -> str:
    """What a command prints."""
    told = stack.gleaner(*arguments, COLUMNS="150")
    assert told.returncode == 0, told.stderr
    return told.stdout


def mean(figures, name: str) -> float:
    return next(each.mean for each in figures if each.metric == name)


def test_shelves_list_for_the_test_users_beside_the_contenders(data, tmp_path):
    (tmp_path / "contest.yaml").write_text(CONTEST + "  - on-show\n")
    (tmp_path / "beside.yaml").write_text(BESIDE)
    printed = text_of(data, "contest", "run", str(tmp_path / "contest.yaml"))
    assert "shelf beside on the test part of shelved@1, beside with-shelves@1: 50 users" in printed
    run = data.client.send(contest_calls.run("with-shelves"))
    beside, here, shown = data.client.send(contest_calls.run_shelves("with-shelves"))
    assert [each.label for each in (beside, here, shown)] == ["shelf beside", "shelf right-here", "shelf on-show"]
    als = next(each for each in run.standings if each.contender == "als")
    # a shelf of one contender does as that does, and its model is not fitted again
    assert mean(beside.figures, "ndcg@3") == pytest.approx(als.figure("ndcg@3").mean, rel=1e-6)
    assert [(each.model, each.by_the_run) for each in beside.models] == [
        ("als", True), ("popular", True),
    ]  # fmt: skip
    assert [each.by_the_run for each in shown.models] == [False, False]
    assert [each.name for each in here.candidates.sources] == ["als", "item_knn", "all together"]
    pairs = {frozenset((each.first, each.second)) for each in here.comparison.pairs}
    assert frozenset(("shelf right-here", "item_knn")) in pairs
    # the same as evaluating the file beside the run
    request = EvaluateShelfRequest(file=FileRequest(file=PUBLISHED), beside="with-shelves", users=5_000)
    job = data.client.wait(data.client.send(shelf_calls.evaluate_shelf(request)).id)
    alone = data.client.send(shelf_calls.shelf_evaluation(job.id))
    assert mean(alone.figures, "ndcg@3") == pytest.approx(mean(shown.figures, "ndcg@3"), rel=1e-6)
    # what was named is kept as it was then
    assert [each.file.shelf for each in run.spec.shelves] == ["beside", "right-here", "on-show"]
    report = text_of(data, "contest", "report", "with-shelves", "--out", str(tmp_path / "report"))
    assert report
    page = next((tmp_path / "report").glob("*.md")).read_text(encoding="utf-8")
    assert "## Shelf right-here" in page
    assert "| candidates, all together | recall |" in page
    told = text_of(data, "contest", "show", "with-shelves", "--shelves")
    assert "shelf right-here on the test part" in told


def test_only_files_beside_a_contest_are_sent_along(tmp_path):
    (tmp_path / "secret.yaml").write_text("key: 1\n")
    folder = tmp_path / "work"
    folder.mkdir()
    (folder / "mine.yaml").write_text(BESIDE)
    (folder / "linked.yaml").symlink_to(tmp_path / "secret.yaml")
    named = ["mine.yaml", "../secret.yaml", str(tmp_path / "secret.yaml"), "linked.yaml", "nowhere.yaml"]
    (folder / "contest.yaml").write_text(f"contest: c\ndata: d\ncontenders: [popular]\nshelves: {named}\n")
    assert contest_file(folder / "contest.yaml").files == {"mine.yaml": BESIDE}


def test_a_shelf_that_cannot_be_evaluated_is_told_with_its_line(data):
    text = CONTEST.replace("{model: als, take: 6}", "{model: alz, take: 6}") + "  - nowhere\n  - b.yaml\n"
    request = FileRequest(file=text, name="c.yaml", files={"b.yaml": "shelf: b\n"})
    outcome = data.client.send(contest_calls.check_contest(request))
    told = {(each.line, each.message) for each in outcome.problems}
    assert (7, "beside.yaml was not sent along with this file") in told
    assert (8, "'alz' is neither a contender of this file; did you mean 'als'? nor a model") in told
    assert any(line == 12 and "there is no shelf 'nowhere'" in message for line, message in told)
    assert any(line == 13 and message.startswith("b.yaml:1: candidates") for line, message in told)
    wrong = (
        CONTEST.replace("take: 6", "tak: 6", 1).replace("  - beside.yaml\n", "  - 7\n").replace("rank: 4", "rank: 0")
    )
    outcome = data.client.send(contest_calls.check_contest(FileRequest(file=wrong)))
    told = [(each.line, each.message) for each in outcome.problems]
    assert [line for line, _ in told] == [5, 7, 9]
    assert "a shelf is the name of a published one" in told[1][1]
    assert "there is no field 'tak' here; did you mean 'take'?" in told[2][1]
    folds = CONTEST.replace("{by: last, test: 1, validation: 1}", "{by: folds}").replace("  - beside.yaml\n", "")
    with pytest.raises(RefusedError, match="folds make several test parts"):
        data.client.send(contest_calls.run_contest(FileRequest(file=folds)))
    twice = CONTEST.replace("  - beside.yaml\n", "  - on-show\n  - on-show\n")
    with pytest.raises(RefusedError, match="two shelves are called 'on-show'"):
        data.client.send(contest_calls.run_contest(FileRequest(file=twice)))
