"""Publishing over what is served: models never change silently, and nobody's version is overwritten unseen."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor

import pytest

from commands import call
from gleaner.client import RefusedError, calls, contest_calls, model_calls, shelf_calls
from gleaner.wire.contests.choosing import ReleaseRequest
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.imports import Roles
from gleaner.wire.models.training import TrainRequest
from gleaner.wire.shelves.publishing import PublishRequest
from stack import Stack

CONTEST = """\
contest: reseeded
data: reseeded
split: {by: last, test: 1, validation: 1}
contenders: [popular, {als: {rank: 4}}, item_knn]
"""
SHELF = """\
shelf: reseeded
title: One
candidates: [{model: reseeded.als}]
fallback: [{model: reseeded.popular}]
"""


@pytest.fixture(scope="module")
def contest(stack: Stack):
    rows = [
        (f"u{user}", f"i{(user * 7 + step * (1 + user % 3)) % 20}", step) for user in range(40) for step in range(7)
    ]
    lines = {(user, item): f"{user},{item},2026-03-{day + 1:02}\n" for user, item, day in rows}
    stack.add("reseeded", "user,item,time\n" + "".join(lines.values()), Roles(user="user", item="item", time="time"))
    return stack.run_contest(CONTEST)


def publish(stack: Stack, text: str, **more):
    return stack.client.send(shelf_calls.publish_shelf(PublishRequest(file=text, **more)))


def refused(stack: Stack, text: str, **more) -> str:
    before = stack.client.send(shelf_calls.shelf_history("reseeded")).serving
    with pytest.raises(RefusedError) as caught:
        publish(stack, text, **more)
    assert stack.client.send(shelf_calls.shelf_history("reseeded")).serving == before
    return str(caught.value)


def test_an_edit_keeps_the_models_that_are_served(stack, contest):
    first = publish(stack, SHELF)
    assert first.spec.models() == ["reseeded.als@1", "reseeded.popular@1"]
    assert first.training_only == ["reseeded.als@1", "reseeded.popular@1"]
    stack.run_contest(CONTEST)
    assert stack.client.send(calls.model("reseeded.als")).name == "reseeded.als@2"
    edited = SHELF.replace("title: One", "title: Two")
    check = stack.client.send(shelf_calls.check_shelf(FileRequest(file=edited)))
    assert (check.models, check.changes) == (["reseeded.als@1", "reseeded.popular@1"], [])
    assert publish(stack, edited).spec.models() == ["reseeded.als@1", "reseeded.popular@1"]


def test_another_model_is_named_with_both_figures_and_must_be_confirmed(stack, contest):
    text = SHELF.replace("model: reseeded.als}", "model: reseeded.item_knn}")
    figures = {each.contender: each.figure("ndcg@10").mean for each in contest.standings}
    part = "fitted on the training part only"
    change = (
        f"candidates: reseeded.als@1 (ndcg@10 {figures['als']:.4f}, {part}) "
        f"to reseeded.item_knn@2 (ndcg@10 {figures['item_knn']:.4f}, {part})"
    )
    check = stack.client.send(shelf_calls.check_shelf(PublishRequest(file=text)))
    assert [each.text for each in check.changes] == [change]
    message = refused(stack, text)
    assert change in message
    # the flag lets names without a number move too, and the message says so beforehand
    assert "fallback: reseeded.popular@1" in message
    assert "to reseeded.popular@2" in message
    updated = publish(stack, text, update_models=True)
    assert updated.spec.models() == ["reseeded.item_knn@2", "reseeded.popular@2"]
    numbered = text.replace("reseeded.popular}", "reseeded.popular@1}")
    assert "fallback: reseeded.popular@2" in refused(stack, numbered)


def test_releasing_a_winner_fits_its_fallback_and_both_are_preferred(stack, contest):
    request = ReleaseRequest(contender="als")
    job = stack.client.wait(stack.client.send(contest_calls.release("reseeded@1", request)).id)
    assert job.result == {"model": "reseeded.als@3", "fallback": "reseeded.popular@3"}
    for name in job.result.values():
        assert stack.client.send(calls.model(name)).trained_on == "everything"
    again = stack.client.wait(stack.client.send(contest_calls.release("reseeded@1", request)).id)
    # there is a fallback on all rows of this version already
    assert again.result == {"model": "reseeded.als@4"}
    # a later run is newer, but saw the training part only
    stack.run_contest(CONTEST)
    draft = stack.client.send(shelf_calls.draft_shelf("reseeded.als@4")).file
    assert "model: reseeded.popular@3" in draft
    other = SHELF.replace("shelf: reseeded", "shelf: reseeded-new")
    version = publish(stack, other)
    assert version.spec.models() == ["reseeded.als@4", "reseeded.popular@3"]
    assert version.training_only == []
    check = stack.client.send(shelf_calls.check_shelf(PublishRequest(file=SHELF, update_models=True)))
    # one that was released has the figures of the model it was fitted like
    to_als = next(each for each in check.changes if each.after == "reseeded.als@4")
    assert to_als.after_figure == stack.client.send(calls.model("reseeded.als@1")).figures["ndcg@10"]
    assert to_als.after_trained_on == "everything"


def test_a_version_published_meanwhile_is_not_overwritten(stack, contest):
    text = SHELF.replace("shelf: reseeded", "shelf: contested")
    one = publish(stack, text, based_on=0)
    with pytest.raises(RefusedError, match="contested@1 is served, and this file is based on no version"):
        publish(stack, text, based_on=0)
    two = publish(stack, text.replace("One", "Two"), based_on=one.number)
    with pytest.raises(RefusedError, match="contested@2 is served, and this file is based on contested@1"):
        publish(stack, text.replace("One", "Three"), based_on=one.number)
    assert publish(stack, text.replace("One", "Three"), based_on=two.number).number == 3
    with pytest.raises(
        RefusedError, match="there is no shelf 'contested-not', and this file is based on contested-not@4"
    ):
        publish(stack, text.replace("shelf: contested", "shelf: contested-not"), based_on=4)


def test_one_of_two_who_publish_a_new_shelf_at_once_is_refused(stack, contest):
    """Both files are based on no version, and no row of the shelf exists that could be locked."""
    barrier = threading.Barrier(2)

    def first(name: str) -> str:
        text = SHELF.replace("shelf: reseeded", f"shelf: {name}")
        barrier.wait(30)
        try:
            return publish(stack, text, based_on=0).shelf
        except RefusedError as error:
            return str(error)

    for n in range(3):
        name = f"at-once-{n}"
        with ThreadPoolExecutor(2) as pool:
            answers = sorted(pool.map(first, [name, name]))
        assert answers[0] == name
        assert f"{name}@1 is served, and this file is based on no version" in answers[1]


def test_the_command_does_the_same(stack, contest, tmp_path):
    at = {"GLEANER_URL": stack.url}
    path = tmp_path / "by-command.yaml"
    path.write_text(SHELF.replace("shelf: reseeded", "shelf: by-command"))
    code, out, _ = call("shelf", "publish", str(path), **at)
    assert code == 0
    assert "by-command@1 is served now, by reseeded.als@4, reseeded.popular@3" in out
    _, shown, _ = call("shelf", "show", "by-command", **at)
    edited = shown.replace("title: One", "title: Two")
    path.write_text(edited)
    assert call("shelf", "publish", str(path), **at)[0] == 0
    code, _, err = call("shelf", "publish", str(path), **at)
    assert code == 1
    assert "by-command@2 is served, and this file is based on by-command@1" in " ".join(err.split())
    assert call("shelf", "publish", str(path), "--based-on", "2", **at)[0] == 0
    assert call("shelf", "publish", str(path), "--overwrite", **at)[0] == 0
    assert call("shelf", "publish", str(path), "--overwrite", "--based-on", "2", **at)[0] == 2
    # the header of `shelf show` is not kept twice
    _, shown, _ = call("shelf", "show", "by-command", **at)
    assert shown.count("# by-command@") == 1
    path.write_text(shown.replace("reseeded.als}", "reseeded.als@1}"))
    code, _, err = call("shelf", "publish", str(path), **at)
    assert code == 1
    assert "publishing would change models: candidates: reseeded.als@4" in " ".join(err.split())
    code, out, _ = call("shelf", "publish", str(path), "--update-models", **at)
    assert code == 0
    assert "model changed candidates: reseeded.als@4" in " ".join(out.split())
    assert "fitted on the training part only: reseeded.als@1" in " ".join(out.split())


def test_a_trained_model_can_bring_a_fallback(stack, contest):
    request = TrainRequest(
        data="reseeded@1", family="item_knn", name="with-fallback", fallback_like="reseeded.popular@1"
    )
    job = stack.client.wait(stack.client.send(model_calls.train_model(request)).id)
    assert job.result["model"] == "with-fallback@1"
    assert job.result["fallback"].startswith("reseeded.popular@")
