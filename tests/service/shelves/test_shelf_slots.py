"""Promoted, pinned and limited places of shelves, on the demo."""

from __future__ import annotations

import pytest

from commands import call
from gleaner.client import RefusedError, shelf_calls
from gleaner.wire.contests.contest import FileRequest

FILE = """\
shelf: {name}
candidates: [{{model: first-look.als}}]
where: stock > 0
slots:
{slots}
fallback: [{{model: first-look.popular}}]
show: [family, surplus, stock]
"""
USER = "g-0417"


def publish(demo, name: str, slots: str):
    text = FILE.format(name=name, slots="\n".join("  " + line for line in slots.splitlines()))
    return demo.client.send(shelf_calls.publish_shelf(FileRequest(file=text, name="shelf.yaml")))


def ask(demo, name: str, n: int = 10, user: str | None = USER, **more):
    return demo.client.send(shelf_calls.recommend(name, user=user, n=n, explain=True, **more))


@pytest.fixture(scope="module")
def plain(demo):
    """What the model lists without slots: the order to keep."""
    publish(demo, "no-slots", "limit:\n  column: stock\n  most: 1000")
    return {user: [place.item for place in ask(demo, "no-slots", 700, user).list] for user in (USER, None)}


@pytest.mark.parametrize("user", [USER, None])
def test_a_share_of_the_list_is_promoted_and_the_rest_keeps_its_order(demo, plain, user):
    publish(demo, "promoted", "promoted: {where: surplus, share: 0.3}")
    answer = ask(demo, "promoted", user=user)
    marked = [place for place in answer.list if place.promoted]
    assert [place.position for place in marked] == [2, 6, 9]
    assert all(place.columns["surplus"] for place in marked)
    rest = [place.item for place in answer.list if not place.promoted]
    assert (
        rest
        == [item for item in plain[user] if item in rest]
        == [item for item in plain[user] if item not in {place.item for place in marked}][:7]
    )
    # among the promoted the person's own order holds too
    assert [place.item for place in marked] == [item for item in plain[user] if item in {p.item for p in marked}]
    assert (answer.fallback is None) == (user is not None)
    assert next(stage.items for stage in answer.stages if stage.stage == "slots") == 3


def test_places_are_named_and_items_pinned(demo, plain):
    stocked = plain[USER][40]
    publish(demo, "pinned", f"promoted: {{where: surplus, places: [1, 4]}}\npinned: [{{item: {stocked}, place: 2}}]")
    answer = ask(demo, "pinned")
    assert [place.position for place in answer.list if place.promoted] == [1, 4]
    assert (answer.list[1].item, answer.list[1].source) == (stocked, "pinned")
    # a condition of the request holds for what is pinned too
    none = ask(demo, "pinned", where=f"stock <> {answer.list[1].columns['stock']}")
    assert stocked not in {place.item for place in none.list}


def test_a_pinned_place_costs_no_promoted_one(demo, plain):
    stocked = plain[USER][40]
    publish(demo, "pinned-beside", f"promoted: {{where: surplus, share: 0.3}}\npinned: [{{item: {stocked}, place: 2}}]")
    answer = ask(demo, "pinned-beside")
    assert (answer.list[1].item, answer.list[1].source) == (stocked, "pinned")
    promoted = [place for place in answer.list if place.promoted]
    assert [place.position for place in promoted] == [3, 6, 9]
    assert all(place.columns["surplus"] for place in promoted)


def test_a_family_is_limited(demo, plain):
    publish(demo, "limited", "limit: {column: family, most: 1}")
    answer = ask(demo, "limited", n=15)
    families = [place.columns["family"] for place in answer.list]
    assert len(families) == len(set(families)) == 15
    rest = [place.item for place in answer.list]
    assert rest == [item for item in plain[USER] if item in rest]
    # no more families than there are
    short = ask(demo, "limited", n=100)
    assert len({place.columns["family"] for place in short.list}) == len(short.list) < 100
    assert short.note == f"100 were asked for, {len(short.list)} are left to recommend, at most 1 of each family"


@pytest.mark.parametrize(
    ("slots", "says"),
    [
        ("promoted: {where: surplus}", "give a share of the list or the places, one of the two"),
        ("promoted: {where: surplus, share: 0.2, places: [1]}", "give a share of the list or the places"),
        ("promoted: {where: surplus, share: 1.5}", "less than or equal to 1"),
        ("promoted: {where: surpluss, share: 0.5}", "there is no column 'surpluss'"),
        ("promoted: {where: surplus, places: [0]}", "places are counted from 1"),
        (
            "promoted: {where: surplus, places: [3]}\npinned: [{item: v-0007, place: 3}]",
            "place 3 is pinned, and promoted",
        ),
        ("pinned: [{item: v-0007, place: 3}, {item: v-0009, place: 3}]", "two items are pinned to the same place"),
        ("pinned: [{item: v-0007, place: 3}, {item: v-0007, place: 4}]", "an item is pinned twice"),
        ("pinned: [{item: nothing, place: 3}]", "does not know item 'nothing', which is pinned"),
        ("limit: {column: colour, most: 2}", "there is no item column 'colour' to limit by; there are: name"),
    ],
)
def test_slots_that_contradict_themselves_or_the_data_are_refused(demo, slots, says):
    with pytest.raises(RefusedError, match=says):
        publish(demo, "refused", slots)
    text = FILE.format(name="refused", slots="\n".join("  " + line for line in slots.splitlines()))
    problems = demo.client.send(shelf_calls.check_shelf(FileRequest(file=text))).problems
    assert any(says in each.message for each in problems), problems
    assert all(each.line >= 4 for each in problems)


def test_the_command_marks_them(demo):
    publish(demo, "marked", "promoted: {where: surplus, share: 0.3}")
    code, out, _ = call("shelf", "try", "marked", "--user", USER, GLEANER_URL=demo.url)
    assert (code, out.count("(promoted)")) == (0, 3)
