"""Events: kept once, durable when answered, and the next list reflects them; columns that change while a shelf serves."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from types import SimpleNamespace

import pytest

from gleaner.client import Client, NotFoundError, RefusedError, calls, event_calls, service_calls, shelf_calls
from gleaner.service.events import routes
from gleaner.store import datasets
from gleaner.store.database.engine import make_engine
from gleaner.store.events import NewEvent, add_all
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.events import Change, Event, EventsAccepted
from gleaner.wire.imports import Roles
from gleaner.wire.keys import KeyRequest, Scope
from gleaner.wire.models.lists import ListsRequest
from gleaner.wire.models.training import TrainRequest
from gleaner.wire.shelves.publishing import PublishRequest
from stack import Stack, wait_for
from tolerances import SUMMED

SHELF = """\
shelf: {name}
candidates: [{{model: first-look.als}}]
leave_out: [{left_out}]
{more}
fallback: [{{model: first-look.popular}}]
show: [stock]
"""


def publish(demo: Stack, name: str, more: str = "", left_out: str = "known, recent") -> str:
    text = SHELF.format(name=name, more=more, left_out=left_out)
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=text)))
    return name


def report_progress(demo: Stack, user: str, *touched: tuple[str, str]):
    events = [Event(user=user, item=item, kind=kind) for item, kind in touched]
    return demo.client.send(event_calls.send_events("seeds", events))


def listed(demo: Stack, shelf: str, user: str | None, n: int = 1000, **more):
    return demo.client.send(shelf_calls.recommend(shelf, user=user, n=n, **more))


def items(answer) -> list[str]:
    return [place.item for place in answer.list]


def test_an_event_counts_once(demo):
    event = Event(id="once-1", user="ev-once", item="v-0090", kind="view")
    first = demo.client.send(event_calls.send_events("seeds", [event]))
    assert (first.taken, first.repeated, first.ids) == (1, 0, [])
    again = demo.client.send(event_calls.send_events("seeds", [event, event.model_copy(update={"source": "x"})]))
    assert (again.taken, again.repeated) == (1, 1)
    [row] = demo.sql("SELECT count(*), max(item_id) FROM events WHERE user_id = 'ev-once' AND source = ''")
    assert row == (1, "v-0090")
    # twice in one batch is once, too
    twice = Event(id="once-2", user="ev-once", item="v-0001", kind="view")
    assert demo.client.send(event_calls.send_events("seeds", [twice, twice])).taken == 1


def test_the_next_list_leaves_out_what_was_just_touched(demo):
    before = listed(demo, "for-growers", "g-0311", 10)
    first, second = items(before)[:2]
    report_progress(demo, "g-0311", (first, "save"), (second, "grown"))
    after = listed(demo, "for-growers", "g-0311")
    # the preparation of the model drops `grown`, so training would not have seen it: it is no known item
    assert first not in items(after)
    assert second in items(after)
    assert after.left_out["known"] == before.left_out["known"] + 1
    assert after.fallback is None


def test_someone_new_is_served_from_events_as_the_model_would_fold_them_in(demo):
    touched = [("v-0010", "request"), ("v-0072", "view"), ("v-0072", "save"), ("v-0544", "view")]
    report_progress(demo, "ev-new", *touched)
    answer = listed(demo, "for-growers", "ev-new", 20)
    assert answer.folded_in == "user 'ev-new' is not in the training data; computed from 3 items of their events"
    assert answer.fallback is None
    request = ListsRequest(items=["v-0010", "v-0072", "v-0544"], values=[5.0, 4.0, 1.0], n=20)
    expected = demo.client.send(calls.model_lists("first-look.als", request)).lists[0].list
    assert items(answer) == [place.item for place in expected]
    assert [p.score for p in answer.list] == pytest.approx([p.score for p in expected], rel=SUMMED)
    both = listed(demo, "for-growers", "ev-new", 5, recent=["v-0518", "v-0544"])
    assert both.folded_in.endswith("from 2 recent items and 3 items of their events")


def test_who_touched_only_what_no_model_knows_gets_the_fallback(demo):
    report_progress(demo, "ev-odd", ("not-there", "view"))
    answer = listed(demo, "for-growers", "ev-odd", 3)
    assert (
        answer.fallback
        == "first-look.popular@1: user 'ev-odd' is not in the training data, and no recent items were given"
    )


def test_a_model_that_cannot_fold_in_says_so(demo):
    text = SHELF.format(name="ev-popular", more="", left_out="known").replace("first-look.als", "first-look.popular")
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=text)))
    report_progress(demo, "ev-popular-user", ("v-0010", "save"))
    answer = listed(demo, "ev-popular", "ev-popular-user")
    assert answer.fallback.endswith("and first-look.popular@1 (popular) cannot fold in what they touched")
    assert "v-0010" not in items(answer)


def test_an_event_on_something_unknown_says_what_it_can_change(demo):
    [[unmet]] = demo.client.send(calls.query("seeds", 1, "SELECT id FROM items WHERE id NOT IN (SELECT item FROM interactions) "
                                                         "ORDER BY id LIMIT 1")).rows  # fmt: skip
    pairs = [("g-1188", "v-0010"), ("g-1188", unmet), ("ev-noted", "v-none"), ("ev-noted", "v-none")]
    sent = [Event(user=user, item=item, kind="view") for user, item in pairs]
    notes = demo.client.send(event_calls.send_events("seeds", sent, notes=True)).notes
    assert [note.partition(" ")[0] for note in notes] == ["item", "item", "user"]
    assert notes[0].startswith(f"item {unmet!r} has no interaction in seeds@")
    assert "but a row in its item table: it is left out of the user's lists" in notes[0]
    assert "item 'v-none' is neither in the interactions nor in the item table of seeds@" in notes[1]
    assert "changes no list until a version holds it" in notes[1]
    assert "user 'ev-noted' has no interaction in seeds@" in notes[2]
    assert demo.client.send(event_calls.send_events("seeds", sent)).notes == []
    done = demo.gleaner("events", "send", "seeds", "--user", "g-1188", "--item", "v-none", "--kind", "view")
    assert done.stdout.splitlines()[0] == "1 kept"
    assert done.stdout.splitlines()[1].startswith("item 'v-none' is neither")


def test_events_that_are_kept_are_answered_though_their_ids_cannot_be_looked_up(demo, monkeypatch):
    def broken(*_):
        raise OSError("a file is gone")

    monkeypatch.setattr(routes, "unknown_notes", broken)
    monkeypatch.setattr(routes, "is_builder", lambda request: True)
    taken = SimpleNamespace(data="seeds", events=[])
    monkeypatch.setattr(routes, "read_events", lambda headers, body: taken)
    accepted = EventsAccepted(data="seeds", taken=1, repeated=0)
    service = SimpleNamespace(live=SimpleNamespace(take=lambda data, events: accepted))
    answer = routes._take(service, SimpleNamespace(headers={}), b"", notes=True)
    assert (answer.taken, answer.notes) == (1, [])


def test_a_key_for_events_alone_is_not_told_who_is_known(demo):
    request = KeyRequest(name="ev-notes", scopes=[Scope.EVENTS])
    secret = demo.client.send(service_calls.create_key(request)).secret
    event = Event(user="ev-noted", item="v-none", kind="view")
    with Client(demo.url, key=secret) as client:
        answer = client.send(event_calls.send_events("seeds", [event], notes=True))
    assert (answer.taken, answer.notes) == (1, [])


def served(stack: Stack, shelf: str, version: int):
    """A list of this version, once it is served."""
    answer = stack.client.send(shelf_calls.recommend(shelf, n=3))
    return answer if answer.version == version else None


def popular_shelf(stack: Stack, name: str, version: int, more: str = "") -> None:
    """A shelf of what is popular in a little dataset."""
    job = stack.client.send(calls.train_model(TrainRequest(data=f"{name}@{version}", family="popular", name=name)))
    stack.client.wait(job.id)
    text = f"shelf: {name}\ncandidates: [{{model: {name}}}]\n{more}fallback: [{{model: {name}}}]\n"
    stack.client.send(shelf_calls.publish_shelf(PublishRequest(file=text, update_models=True)))


def test_a_condition_on_the_history_sees_events(demo):
    shelf = publish(demo, "ev-history", "where: item NOT IN history('request', INTERVAL '30' DAY)", left_out="recent")
    everything = items(listed(demo, shelf, "ev-history-1"))
    old = datetime.now(UTC) - timedelta(days=40)
    demo.client.send(
        event_calls.send_events(
            "seeds",
            [
                Event(user="ev-history-1", item=everything[0], kind="request"),
                Event(user="ev-history-1", item=everything[1], kind="view"),
                Event(user="ev-history-1", item=everything[2], kind="request", time=old),
            ],
        )
    )
    assert set(everything) - set(items(listed(demo, shelf, "ev-history-1"))) == {everything[0]}


def test_columns_of_items_change_live(demo):
    shelf = publish(demo, "ev-stock", "where: stock > 0")
    before = listed(demo, shelf, "g-0020")
    first = before.list[0]
    try:
        taken = demo.client.send(event_calls.change_items("seeds", [Change(id=first.item, columns={"stock": 0})]))
        assert (taken.rows, taken.cells) == (1, 1)
        after = listed(demo, shelf, "g-0020")
        assert first.item not in items(after)
        assert after.left_out["where"] == before.left_out["where"] + 1
        demo.client.send(event_calls.change_items("seeds", [Change(id=first.item, columns={"stock": 77})]))
        assert listed(demo, shelf, "g-0020").list[0].columns == {"stock": 77}
        # a shelf that is published or loaded later sees it as well
        fresh = publish(demo, "ev-stock-later", "where: stock = 77")
        assert first.item in items(listed(demo, fresh, None)) + items(listed(demo, fresh, "g-0020"))
    finally:
        back = Change(id=first.item, columns={"stock": first.columns["stock"]})
        demo.client.send(event_calls.change_items("seeds", [back]))
    assert items(listed(demo, shelf, "g-0020")) == items(before)


def test_columns_of_users_change_live(demo):
    shelf = publish(demo, "ev-zone", 'where: "zone_from = :user.zone"')
    [[zone]] = demo.client.send(calls.query("seeds", 1, "SELECT zone FROM users WHERE id = 'g-0021'")).rows
    other = "Z1" if zone != "Z1" else "Z2"
    before = items(listed(demo, shelf, "g-0021"))
    try:
        demo.client.send(event_calls.change_users("seeds", [Change(id="g-0021", columns={"zone": other})]))
        after = items(listed(demo, shelf, "g-0021"))
        assert after
        assert not set(before) & set(after)
    finally:
        demo.client.send(event_calls.change_users("seeds", [Change(id="g-0021", columns={"zone": zone})]))
    assert items(listed(demo, shelf, "g-0021")) == before


def test_a_shelf_whose_condition_comes_to_leave_nothing_serves_a_short_list_and_says_so(stack):
    world = "user,item\n" + "".join(f"u{u},i{i}\n" for u in range(6) for i in range(6) if (u + i) % 2)
    table = "item,open\n" + "".join(f"i{i},{'true' if i == 1 else 'false'}\n" for i in range(6))
    stack.add("closing", world, Roles(user="user", item="item"), items=table)
    popular_shelf(stack, "closing", 1, "where: open\n")
    assert items(stack.client.send(shelf_calls.recommend("closing", n=3))) == ["i1"]
    stack.client.send(event_calls.change_items("closing", [Change(id="i1", columns={"open": False})]))
    answer = stack.client.send(shelf_calls.recommend("closing", n=3))
    assert (answer.list, answer.note) == ([], "3 were asked for, 0 are left to recommend")
    # a version that brings a table of its own is as that table says
    stack.add("closing", world, Roles(user="user", item="item"), items=table)
    popular_shelf(stack, "closing", 2, "where: open\n")
    answer = wait_for(lambda: served(stack, "closing", 2))
    assert items(answer) == ["i1"]


def test_every_kind_of_column_can_change_and_be_emptied(demo):
    columns = {"traits": ["odd"], "added_on": "2031-02-03", "surplus": True, "credits": None}
    query = "SELECT traits, CAST(added_on AS VARCHAR), surplus, credits FROM items WHERE id = 'v-0313'"
    [before] = demo.client.send(calls.query("seeds", 1, query)).rows
    where = "'odd' IN traits AND added_on = DATE '2031-02-03' AND credits IS NULL AND surplus"
    try:
        demo.client.send(event_calls.change_items("seeds", [Change(id="v-0313", columns=columns)]))
        shelf = publish(demo, "ev-kinds", f'where: "{where}"')
        assert items(listed(demo, shelf, "g-0020")) == ["v-0313"]
    finally:
        old = dict(zip(columns, before, strict=True))
        demo.client.send(event_calls.change_items("seeds", [Change(id="v-0313", columns=old)]))
    assert items(listed(demo, shelf, "g-0020")) == []


def test_what_is_told_can_be_followed_without_passing_over_any(demo):
    page = demo.client.send(event_calls.list_events("seeds", user="ev-tail", limit=2))
    assert page.items == []
    sent = []
    for place in range(5):
        [name] = [f"tail-{place}"]
        event = Event(id=name, user="ev-tail", item="v-0010", kind="view", list_id="some-list")
        demo.client.send(event_calls.send_events("seeds", [event]))
        sent.append(name)
    actual, after = [], page.next
    while len(actual) < 5:
        page = demo.client.send(event_calls.list_events("seeds", user="ev-tail", after=after, limit=2))
        actual, after = actual + [each.id for each in page.items], page.next
    assert actual == sent
    last = demo.client.send(event_calls.list_events("seeds", user="ev-tail", limit=2))
    assert [(each.id, each.list_id) for each in last.items] == [("tail-3", "some-list"), ("tail-4", "some-list")]
    with pytest.raises(RefusedError, match="not one this service gave"):
        demo.client.send(event_calls.list_events("seeds", after="bm9wZQ"))
    with pytest.raises(NotFoundError):
        demo.client.send(event_calls.list_events("nobody"))


def test_an_event_of_a_transaction_still_open_is_not_passed_over(demo):
    """It commits after one that began later: whoever follows waits for it."""
    start = demo.client.send(event_calls.list_events("seeds", limit=1)).next
    engine = make_engine(demo.database_url)
    with engine.connect() as slow:
        new = NewEvent("slow", "test", "ev-slow", "v-0010", None, None, datetime.now(UTC), None)
        add_all(slow, datasets.id_of(slow, "seeds"), [new], "test")
        report_progress(demo, "ev-slow", ("v-0072", "view"))
        page = demo.client.send(event_calls.list_events("seeds", after=start))
        assert [each.item for each in page.items if each.user == "ev-slow"] == []
        slow.commit()
    engine.dispose()
    page = wait_for(lambda: demo.client.send(event_calls.list_events("seeds", user="ev-slow", after=page.next)))
    assert [each.item for each in page.items] == ["v-0010", "v-0072"]


def test_a_live_view_counts_what_came_and_what_came_back(demo):
    shelf = publish(demo, "ev-view")
    answers = [listed(demo, shelf, user, 5) for user in ("g-0040", "g-0041", None)]
    wait_for(lambda: demo.sql("SELECT count(*) FROM served_lists WHERE shelf = 'ev-view'") == [(3,)])
    before = demo.client.send(event_calls.live_state("seeds"))
    place = answers[0].list[2]
    for item in (place.item, "v-not-in-it"):
        call = event_calls.send_event("seeds", "g-0040", item, "view", list_id=answers[0].list_id)
        demo.client.send(call)
    state = demo.client.send(event_calls.live_state("seeds"))
    assert (state.version, state.events - before.events, state.in_memory - before.in_memory) == ("seeds@1", 2, 2)
    assert state.by_kind["view"] - before.by_kind.get("view", 0) == 2
    assert sum(state.events_per_minute) - sum(before.events_per_minute) == 2
    assert state.lists_per_minute[-1] + state.lists_per_minute[-2] >= 3
    assert state.items_new - before.items_new == 1
    [back] = [each for each in state.lists if each.shelf == shelf]
    assert (back.lists, back.users, back.fallbacks, back.answered, back.events) == (3, 2, 1, 1, 2)
    assert back.by_place == [0, 0, 1, 0, 0, 0, 0, 0, 0, 0]
    assert back.items_shown == len({item for answer in answers for item in items(answer)})
    calls_made = [each.calls for each in state.waits]
    assert calls_made == sorted(calls_made, reverse=True)
    # the most called are told: called more often than the least of them, a route is among them
    for _ in range(calls_made[-1] + 1):
        listed(demo, shelf, "g-0040", 5)
    waits = demo.client.send(event_calls.live_state("seeds")).waits
    assert "/v1/shelves/{shelf}/recommendations" in {each.route for each in waits}


def test_drift_of_events_is_told_beside_what_chance_alone_would_show(stack):
    rows = [
        ("u", f"i{item}", kind, value) for item in range(4) for kind, value in (("a", 1), ("b", 3)) for _ in range(5)
    ]
    text = "user,item,kind,value\n" + "".join(f"{u}{n},{i},{k},{v}\n" for n, (u, i, k, v) in enumerate(rows))
    stack.add("drifting", text, Roles(user="user", item="item", kind="kind", value="value"))
    assert stack.client.send(event_calls.live_state("drifting")).drift is None
    events = [Event(user="u1", item="i0", kind="a", value=1.0)] * 3 + [
        Event(user="new", item="odd", kind="b", value=3.0)
    ]
    stack.client.send(event_calls.send_events("drifting", events))
    # of four values nothing is told: any few are far from a histogram
    assert stack.client.send(event_calls.live_state("drifting")).drift.values is None
    stack.client.send(event_calls.send_events("drifting", events * 7))
    drift = stack.client.send(event_calls.live_state("drifting")).drift
    # shares before: a quarter each; now three quarters, nothing three times, and a quarter on what was not there
    assert drift.popularity == pytest.approx((0.5 + 3 * 0.25 + 0.25) / 2)
    assert drift.movers[0].model_dump() == {"name": "i0", "before": 0.25, "after": 0.75}
    assert 0.05 < drift.popularity_by_chance < 0.2
    assert [(each.name, each.before, each.after) for each in drift.kinds] == [("a", 0.5, 0.75), ("b", 0.5, 0.25)]
    assert (drift.values, drift.value_means) == (pytest.approx(0.25), (2.0, 1.5))
    assert (drift.unknown_users, drift.unknown_items) == (0.25, 0.25)


def test_a_forgotten_user_has_no_events_any_more(stack):
    world = "user,item\n" + "".join(f"u{u},i{i}\n" for u in range(6) for i in range(6) if (u + i) % 2)
    stack.add("forgetting", world, Roles(user="user", item="item"))
    popular_shelf(stack, "forgetting", 1)
    stack.client.send(event_calls.send_events("forgetting", [Event(user="later", item="i1")]))
    assert "i1" not in items(stack.client.send(shelf_calls.recommend("forgetting", user="later")))
    job = stack.client.wait(stack.client.send(calls.forget_user("forgetting", "later")).id)
    assert job.result["events"] == 1
    assert stack.sql("SELECT count(*) FROM events WHERE user_id = 'later'") == [(0,)]
    wait_for(lambda: "i1" in items(stack.client.send(shelf_calls.recommend("forgetting", user="later"))))
    with pytest.raises(RefusedError, match="has no kinds, so 'view' cannot be one"):
        stack.client.send(event_calls.send_event("forgetting", "u1", "i1", "view"))
    with pytest.raises(RefusedError, match="no table of items"):
        stack.client.send(event_calls.change_items("forgetting", [Change(id="i1", columns={"a": 1})]))


def test_what_goes_with_an_event_is_kept_and_gathered(stack):
    """The device, an hour and a flag come with events, and stand beside their rows in the next version."""
    text = "user,item,device,hour,sale,day\n" + "".join(
        f"u{n % 9},i{n % 7},{('phone', 'desk')[n % 2]},{n % 24},{('true', 'false')[n % 3 == 0]},2026-01-{1 + n % 28:02}\n"
        for n in range(60)
    )
    beside = ["device", "hour", "sale", "day"]
    version = stack.add("carried", text, Roles(user="user", item="item", context=beside))
    assert [each.type for each in version.context_columns] == ["category", "number", "flag", "date"]

    def refused(message: str, **context) -> None:
        with pytest.raises(RefusedError, match=message):
            stack.client.send(event_calls.send_events("carried", [Event(user="u1", item="i1", context=context)]))

    refused(r"events\.0\.context\.devise: .*did you mean 'device'", devise="phone")
    refused(r"events\.0\.context\.hour: it must be a number, not 'noon'", hour="noon")
    refused("it must be true or false, not 'yes'", sale="yes")
    refused("it must be a text, not 3", device=3)
    refused("it must be a date such as", day="tomorrow")
    given = {"device": "watch", "hour": 13.5, "sale": False, "day": "2026-11-30"}
    sent = [
        Event(user="u1", item="i1", context=given), Event(user="u2", item="i3", context={"device": None}),
        Event(user="u3", item="i2"),
    ]  # fmt: skip
    assert stack.client.send(event_calls.send_events("carried", sent)).taken == 3
    told = stack.http.get("/v1/events", params={"data": "carried"}).json()["items"]
    assert {each["user"]: each["context"] for each in told} == {"u1": given, "u2": {"device": None}, "u3": {}}
    job = stack.client.wait(stack.client.send(event_calls.gather_events("carried")).id)
    assert job.result == {"version": "carried@2", "events": 3, "changed_rows": 0}
    version = stack.client.send(calls.dataset_version("carried", 2))
    assert [each.type for each in version.context_columns] == ["category", "number", "flag", "date"]
    page = stack.http.get("/v1/datasets/carried/versions/2/rows", params={"where": "device = 'watch'"}).json()
    [row] = page["rows"]
    told = dict(zip([each["name"] for each in page["columns"]], row, strict=True))
    assert {name: told[name] for name in beside} == given
    assert version.context_columns[0].missing == 2
