"""The live page: what comes in shows up by itself."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

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


def test_without_events_it_says_how_to_tell_of_one(page, quiet):
    page.goto("/live/no-events")
    expect(page.get_by_text("gleaner events send no-events")).to_be_visible()
    expect(page.get_by_text("No list was served.")).to_be_visible()


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
