"""Users and rows that a preparation prunes: they are folded in, and what they have is not recommended to them."""

from __future__ import annotations

import random
from collections import defaultdict
from dataclasses import dataclass

import polars as pl
import pytest

from gleaner.client import NotFoundError, calls, event_calls, export_calls, job_calls, shelf_calls
from gleaner.wire.contests.contest import FileRequest, PrepareSpec
from gleaner.wire.events import Event
from gleaner.wire.exports import ExportRequest
from gleaner.wire.imports import Roles
from gleaner.wire.models.lists import AllRequest, AudienceRequest, ListsRequest
from gleaner.wire.models.training import TrainRequest
from stack import Stack

ITEMS = [f"i{number:02}" for number in range(30)]
MIN_USER = 5
PREPARE = PrepareSpec(kinds={"save": 1.0}, min_user=MIN_USER)


@dataclass(frozen=True)
class Data:
    """What users saved and viewed, by user, and the name of a shelf."""

    saved: dict[str, set[str]]
    viewed: dict[str, set[str]]

    @property
    def pruned(self) -> list[str]:
        return sorted(user for user, items in self.saved.items() if len(items) < MIN_USER)

    def text(self) -> str:
        rows = [(user, item, kind) for kind, by_user in (("save", self.saved), ("view", self.viewed)) for user, items in
                sorted(by_user.items()) for item in sorted(items)]  # fmt: skip
        return "user,item,kind\n" + "".join(f"{user},{item},{kind}\n" for user, item, kind in rows)


def made_up() -> Data:
    """Two tastes, one for each half of the items; a third of the users has saved four items at most."""
    draw = random.Random(34)
    saved, viewed = {}, defaultdict(set)
    for number in range(60):
        user, half = f"u{number:02}", ITEMS[:15] if number % 2 else ITEMS[15:]
        saved[user] = set(draw.sample(half, draw.randint(1, 4) if number % 3 == 0 else draw.randint(6, 9)))
        viewed[user] = set(draw.sample(ITEMS, 3)) - saved[user]
    return Data(saved, dict(viewed))


@pytest.fixture(scope="module")
def data(stack: Stack) -> Data:
    made = made_up()
    stack.add("pruned", made.text(), Roles(user="user", item="item", kind="kind"))
    for family, params in (("als", {"rank": 4}), ("item_knn", {}), ("popular", {}), ("user_knn", {})):
        request = TrainRequest(data="pruned@1", family=family, params=params, name=f"pruned-{family}", prepare=PREPARE)
        stack.client.wait(stack.client.send(calls.train_model(request)).id)
    for family in ("als", "item_knn", "user_knn"):
        text = (
            f"shelf: pruned-{family}\ncandidates: [{{model: pruned-{family}}}]\nfallback: [{{model: pruned-popular}}]\n"
        )
        stack.client.send(shelf_calls.publish_shelf(FileRequest(file=text)))
    return made


def served(stack: Stack, family: str, user: str, **more):
    return stack.client.send(shelf_calls.recommend(f"pruned-{family}", user=user, n=30, **more))


def listed(answer) -> set[str]:
    return {place.item for place in answer.list}


@pytest.mark.parametrize("family", ["als", "item_knn"])
def test_pruned_users_get_lists_of_their_own(stack, data, family):
    assert len(data.pruned) == 20
    for user in data.pruned:
        answer = served(stack, family, user, explain=True)
        n_saved = len(data.saved[user])
        assert answer.fallback is None
        s = "s" if n_saved > 1 else ""
        assert answer.folded_in == (
            f"user '{user}' is not in the training data; computed from {n_saved} item{s} of their history"
        )
        assert not listed(answer) & data.saved[user]
        assert answer.left_out["known"] == n_saved
        half = {place.item for place in answer.list[:3]}
        own = set(ITEMS[:15] if int(user[1:]) % 2 else ITEMS[15:])
        assert half <= own
        assert answer.stages[0].items == n_saved
        assert any(item in answer.list[0].reason for item in data.saved[user])


def test_a_model_that_cannot_fold_in_says_so_and_still_leaves_out_what_they_have(stack, data):
    for user in data.pruned[:5]:
        answer = served(stack, "user_knn", user)
        reason = "cannot fold in what they touched"
        assert (
            answer.fallback
            == (
                f"pruned-popular@1: user '{user}' is not in the training data, and pruned-user_knn@1 (user_knn) {reason}"
            )
            or answer.folded_in
        )
        assert not listed(answer) & data.saved[user]


def test_what_only_other_kinds_touched_may_be_recommended(stack, data):
    viewed_and_listed = sum(bool(listed(served(stack, "als", user)) & data.viewed[user]) for user in data.pruned)
    assert viewed_and_listed > len(data.pruned) / 2


def test_the_model_itself_answers_for_them_as_the_shelf_does(stack, data):
    user = data.pruned[0]
    alone = stack.client.send(calls.model_recommend("pruned-als", user, 30))
    assert [place.item for place in alone.list] == [place.item for place in served(stack, "als", user).list]
    assert not alone.known
    assert alone.left_out == len(data.saved[user])
    assert alone.note.startswith("not in the training data; computed from")
    several = stack.client.send(calls.model_lists("pruned-als", ListsRequest(users=[user, "u01", "nobody"], n=30)))
    assert {each.user for each in several.lists} == {user, "u01"}
    assert several.unknown == ["nobody"]
    with pytest.raises(
        NotFoundError, match="user 'nobody' is not in the training data, and no recent items were given"
    ):
        stack.client.send(calls.model_recommend("pruned-als", "nobody", 3))
    item = alone.list[0].item
    why = stack.client.send(calls.explain("pruned-als", user, item))
    assert why.kind == "sum"
    assert why.score == pytest.approx(alone.list[0].score, rel=1e-5)
    assert why.result == pytest.approx(why.score, rel=1e-4)
    assert {term.id for term in why.terms} <= data.saved[user]


def test_audiences_leave_out_who_has_the_item(stack, data):
    item = ITEMS[0]
    [audience] = stack.client.send(calls.audiences("pruned-als", AudienceRequest(items=[item], n=60)))
    owners = {user for user, items in data.saved.items() if item in items}
    assert owners & set(data.pruned)
    assert not {each.user for each in audience.users} & owners
    assert [each.position for each in audience.users] == list(range(1, len(audience.users) + 1))


def exported(stack: Stack, tmp_path, **request) -> pl.DataFrame:
    job = stack.client.wait(stack.client.send(export_calls.export(ExportRequest(format="parquet", **request))).id)
    path = tmp_path / "export.parquet"
    stack.client.save(job_calls.job_file(job.id), path)
    return pl.read_parquet(path)


@pytest.mark.parametrize("what", ["lists", "top-items", "top-users", "affinity"])
def test_exports_hold_everybody_and_nothing_they_have(stack, data, tmp_path, what):
    more = {"shelf": "pruned-als"} if what == "lists" else {"model": "pruned-als"}
    if what == "affinity":
        frame = exported(stack, tmp_path, what=what, items=ITEMS[:4], **more)
        assert set(frame["user"]) == set(data.saved)
        for row in frame.iter_rows(named=True):
            assert {item for item in ITEMS[:4] if row[item] is None} == data.saved[row["user"]] & set(ITEMS[:4])
        return
    frame = exported(stack, tmp_path, what=what, n=60, **more)
    assert set(frame["user"]) == set(data.saved)
    pairs = set(zip(frame["user"], frame["item"], strict=True))
    assert not [pair for pair in pairs if pair[1] in data.saved[pair[0]]]
    if what == "top-items":
        user = data.pruned[0]
        own = frame.filter(user=user).sort("position")["item"].to_list()
        assert own == [place.item for place in served(stack, "als", user).list]


def test_lists_for_everybody_hold_them_too(stack, data, tmp_path):
    job = stack.client.wait(stack.client.send(calls.all_lists("pruned-als", AllRequest(what="items", n=30))).id)
    path = tmp_path / "lists.parquet"
    stack.client.save(job_calls.job_file(job.id), path)
    frame = pl.read_parquet(path)
    assert set(frame["user"]) == set(data.saved)
    assert not [1 for user, item in zip(frame["user"], frame["item"], strict=True) if item in data.saved[user]]


def test_an_event_joins_the_rows_of_a_pruned_user(stack, data):
    user = data.pruned[1]
    item = next(iter(served(stack, "als", user).list)).item
    event = Event(user=user, item=item, kind="save")
    stack.client.send(event_calls.send_events("pruned", [event]))
    answer = served(stack, "als", user)
    n_saved = len(data.saved[user])
    assert answer.folded_in.endswith("of their history and 1 item of their events")
    assert answer.left_out["known"] == n_saved + 1
    assert item not in listed(answer)
