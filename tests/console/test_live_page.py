"""The live page: what comes in shows up by itself."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from console.conftest import choose
from gleaner.client import calls, event_calls
from gleaner.wire.imports import Roles


def test_an_event_shows_up_by_itself_with_what_it_did(page, demo):
    answer = demo.client.send(calls.recommend("for-growers", user="g-0050", n=5))
    place = answer.list[1]
    page.goto("/live/seeds")
    expect(page.get_by_role("heading", name="Live: seeds")).to_be_visible()
    last = page.get_by_role("table", name="Last events").locator("tbody tr").first
    demo.client.send(event_calls.send_event("seeds", "console-live", place.item, "view", list_id=answer.list_id))
    expect(last).to_contain_text("console-live")
    expect(last).to_contain_text(answer.list_id)
    expect(page.get_by_text("by users it does not have")).to_be_visible()
    shelves = page.get_by_role("table", name="Shelves").locator("tbody tr")
    expect(shelves.filter(has_text="for-growers")).to_have_count(1)
    expect(page.get_by_role("heading", name="Drift against seeds@1")).to_be_visible()
    expect(page.get_by_text("chance alone would show").first).to_be_visible()
    page.get_by_role("button", name="Table").first.click()
    expect(page.get_by_role("table", name="Last hour, by minute")).to_be_visible()
    calls_table = page.get_by_role("table", name="Calls")
    expect(calls_table).to_contain_text("/v1/events")


@pytest.fixture(scope="module")
def quiet(demo):
    demo.add("no-events", "user,item\nu,i\n", Roles(user="user", item="item"))


def test_an_event_is_sent_by_hand(page, demo):
    page.goto("/live/seeds?view=hand")
    page.get_by_role("combobox", name="User, by id or name").first.fill("by-hand")
    page.get_by_role("combobox", name="Item, by id or name").first.fill("v-0012")
    page.get_by_role("combobox", name="Item, by id or name").first.press("Enter")
    choose(page, "Kind", "save")
    page.get_by_role("button", name="Send", exact=True).click()
    expect(page.get_by_text("Kept: by-hand, save, v-0012.")).to_be_visible()
    expect(page.get_by_text("user 'by-hand' has no interaction in seeds@")).to_be_visible()
    page.get_by_role("link", name="As it comes").click()
    expect(page.get_by_role("table", name="Last events").locator("tbody tr").first).to_contain_text("by-hand")
    [kept] = demo.client.send(event_calls.list_events("seeds", user="by-hand")).items
    assert (kept.item, kept.kind, kept.value) == ("v-0012", "save", None)


def test_what_is_typed_stays_while_the_service_does_not_answer(failing_page):
    page = failing_page
    page.goto("/live/seeds?view=hand")
    user = page.get_by_role("combobox", name="User, by id or name").first
    user.fill("half-typed")
    page.route("**/v1/datasets/seeds/live", lambda route: route.abort())
    told = page.get_by_role("alert").filter(has_text="This could not be brought up to date")
    expect(told).to_be_visible()
    expect(user).to_have_value("half-typed")
    page.unroute_all()
    expect(told).to_have_count(0)
    expect(user).to_have_value("half-typed")


def test_a_cell_is_changed_and_the_next_version_has_it(page, demo):
    items = "item,name,stock,fresh,traits\n" + "".join(f"i{n},Pea {n},4,true,early|tall\n" for n in range(5))
    rows = "user,item\n" + "".join(f"u{n % 6},i{n % 5}\n" for n in range(60))
    demo.add("changing", rows, Roles(user="user", item="item"), items=items)
    page.goto("/live/changing?view=hand")
    item = page.get_by_role("combobox", name="Item, by id or name").last
    item.fill("i3")
    item.press("Enter")
    choose(page, "Column", "stock")
    expect(page.get_by_text("changing@1 says: 4")).to_be_visible()
    page.get_by_label("New value").fill("none at all")
    page.get_by_role("button", name="Change", exact=True).click()
    expect(page.get_by_text("stock holds numbers.")).to_be_visible()
    page.get_by_label("New value").fill("0")
    page.get_by_role("button", name="Change", exact=True).click()
    expect(page.get_by_text("stock of i3 is 0 from now on.")).to_be_visible()
    demo.client.send(event_calls.send_event("changing", "u1", "i2"))
    make = page.get_by_role("button", name="Make the next version of changing")
    make.click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("what came since (events: 1; rows with changed columns: 1)")
    dialog.get_by_role("button", name="Make it").click()
    expect(page.get_by_text("changing@2 is made.")).to_be_visible()
    make.click()
    page.get_by_role("dialog").get_by_role("button", name="Make it").click()
    expect(page.get_by_text("None is made: nothing came since changing@2.")).to_be_visible()
    page.goto("/data/changing@2")
    expect(page.get_by_role("heading", name="changing@2")).to_be_visible()
    found = demo.client.send(calls.rows("changing", 2, "items", where="stock = 0"))
    assert [dict(zip([each.name for each in found.columns], row, strict=True))["id"] for row in found.rows] == ["i3"]


def test_without_events_it_says_how_to_tell_of_one(page, quiet):
    page.goto("/live/no-events")
    expect(page.get_by_text("gleaner events send no-events")).to_be_visible()
    expect(page.get_by_text("No list was served.")).to_be_visible()
    page.get_by_role("link", name="Send one by hand").click()
    expect(page.get_by_role("button", name="Send", exact=True)).to_be_disabled()
    expect(page.get_by_text("no-events@1 has no table of items or users.")).to_be_visible()


def test_events_from_before_the_version_are_called_older(page, demo):
    text = "user,item\n" + "".join(f"u{n % 6},i{n % 5}\n" for n in range(60))
    roles = Roles(user="user", item="item")
    demo.add("older", text, roles)
    demo.client.send(event_calls.send_event("older", "u1", "i2"))
    demo.add("older", text, roles)
    page.goto("/live/older")
    expect(
        page.get_by_text("No event came since older@2 was made; any that are listed below are older.")
    ).to_be_visible()
    expect(page.get_by_role("table", name="Last events").locator("tbody tr")).to_have_count(1)
    # nothing is asked of the item table that older@2 does not have: its refusal would be here before the next look
    page.wait_for_event("response", lambda answered: "/v1/events" in answered.url)
