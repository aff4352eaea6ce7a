"""The taste page: what is picked, and how much it is liked, changes the list at once, and the list says why."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from gleaner.client import calls


def test_each_pick_changes_the_list_and_can_be_taken_back(page, demo):
    anyone = [place.item for place in demo.client.send(calls.recommend("for-growers", n=10)).list]
    page.goto("/taste/for-growers")
    rows = page.get_by_role("table", name="List").locator("tbody tr")
    expect(rows.first).to_contain_text(anyone[0])
    choice = page.locator("button.choice").filter(has_text=anyone[0])
    choice.click()
    expect(page).to_have_url(re.compile(f"pick={anyone[0]}"))
    expect(page.get_by_text("no user was named; computed from 1 recent item")).to_be_visible()
    answer = demo.client.send(calls.recommend("for-growers", recent=[anyone[0]], n=10, explain=True))
    expect(rows.first).to_contain_text(answer.list[0].item)
    expect(rows.first).to_contain_text(answer.list[0].reason)
    expect(choice).to_have_attribute("aria-pressed", "true")
    page.get_by_label("Search for an item").fill("v-0601")
    page.get_by_role("button", name=re.compile("v-0601")).click()
    picked = page.get_by_role("list", name="Picked").get_by_role("listitem")
    expect(picked).to_have_count(2)
    expect(page.get_by_text("from 2 recent items")).to_be_visible()
    picked.last.get_by_text("a lot").click()
    expect(page).to_have_url(re.compile("said.v-0601=3"))
    liked = demo.client.send(calls.recommend("for-growers", recent=[anyone[0], "v-0601"], values={"v-0601": 3.0}, n=10))
    for at, place in enumerate(liked.list):
        expect(rows.nth(at)).to_contain_text(place.item)
    page.get_by_role("button", name=f"Take {anyone[0]} back").click()
    expect(picked).to_have_count(1)
    page.get_by_role("button", name="Start again").click()
    expect(rows.first).to_contain_text(anyone[0])
    expect(page.get_by_text("no user was named, and no recent items were given")).to_be_visible()


def test_an_item_that_nobody_could_be_shown_is_told(page, demo):
    page.goto("/taste/for-growers")
    page.get_by_label("Search for an item").fill("no-such-thing")
    expect(page.get_by_text("No item has no-such-thing in its id or texts.")).to_be_visible()
