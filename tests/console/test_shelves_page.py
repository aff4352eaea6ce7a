"""The shelves page: the file checked as it is typed, published, compared and rolled back; one more condition."""

from __future__ import annotations

import re
from functools import partial

import pytest
from playwright.sync_api import expect

from console.conftest import choose
from gleaner.client import shelf_calls
from gleaner.wire.contests.contest import FileRequest

FILE = """\
shelf: console-page
title: One
candidates:
  - model: first-look.als
fallback:
  - model: first-look.popular
show: [name, credits]
"""


@pytest.fixture(scope="module")
def shelf(demo):
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=FILE)))
    return "console-page"


def test_a_file_is_checked_as_it_is_typed_then_published_and_taken_back(page, demo, shelf):
    page.goto(f"/shelves/{shelf}")
    editor = page.get_by_role("textbox", name="Shelf file, YAML")
    publish = page.get_by_role("button", name="Publish as the next version")
    expect(publish).to_be_disabled()
    editor.fill(FILE + "where: stok > 0\n")
    expect(page.get_by_text("line 8: where: character 1: there is no column 'stok'")).to_be_visible()
    expect(publish).to_be_disabled()
    editor.fill(FILE + "where: [stock\n")
    form = page.get_by_role("group", name="The file as a form")
    expect(form.get_by_text(re.compile(r"The file has a mistake: line \d+: "))).to_be_visible()
    expect(form.get_by_label("Title")).to_have_value("One")
    expect(form.get_by_label("Title")).to_be_disabled()
    editor.fill(FILE.replace("One", "Two") + "where: stock > 0 AND credits <= :context.most\n")
    parts = page.get_by_role("table", name="Parts of the condition").locator("tbody tr")
    expect(parts).to_have_count(2)
    expect(parts.first).to_contain_text("763")
    expect(parts.last).to_contain_text(":context.most")
    editor.fill(FILE.replace("One", "Two") + "where: stock > 0\n")
    expect(page.get_by_text("763 of 826 items are left.")).to_be_visible()
    publish.click()
    expect(page.get_by_text("Serving version 2")).to_be_visible()
    versions = page.get_by_role("table", name="Versions").locator("tbody tr")
    expect(versions).to_have_count(2)
    expect(versions.first).to_contain_text("now, since")
    page.get_by_role("button", name="Changes of 2").click()
    expect(page).to_have_url(re.compile("changes=2"))
    expect(page.get_by_text("From console-page@1 to console-page@2: title, where.")).to_be_in_viewport()
    expect(page.get_by_label("Changes from console-page@1 to console-page@2")).to_contain_text("+ title: Two")
    page.get_by_role("button", name="Serve 1").click()
    expect(page.get_by_text("Serving version 1")).to_be_visible()
    expect(editor).to_have_value(re.compile("title: One"))
    assert demo.client.send(shelf_calls.shelf(shelf)).number == 1


def test_one_more_condition_is_asked_for_and_a_mistake_is_told(refused_page):
    page = refused_page
    page.goto("/shelves/for-growers?user=g-0417")
    condition = page.get_by_label("One more condition")
    condition.fill("credits <= 1 AND zone_from IN (:user.zone, 'Z1')")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("where=credits"))
    rows = page.get_by_role("table", name="List").locator("tbody tr")
    expect(rows).to_have_count(10)
    expect(page.get_by_text(re.compile(r"left out: \d+ known, \d+ by the condition"))).to_be_visible()
    condition.fill("credits <= :user.age")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("there is no user column 'age'")


def test_two_versions_stand_side_by_side_for_the_same_person(page, demo):
    shelf = "console-beside"
    for title, where in (("One", ""), ("Two", "where: credits <= 2\n")):
        file = FILE.replace("console-page", shelf).replace("One", title) + where
        demo.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))
    page.goto(f"/shelves/{shelf}?user=g-0417&n=6")
    choose(page, "Beside", f"{shelf}@1")
    expect(page).to_have_url(re.compile("beside=console-beside%401"))
    ask = partial(shelf_calls.recommend, user="g-0417", n=6)
    one, two = (demo.client.send(ask(f"{shelf}@{number}")).list for number in (1, 2))
    there = {place.item: place.position for place in one}
    both = [place for place in two if place.item in there]
    same = sum(there[place.item] == place.position for place in both)
    assert 0 < len(both) < 6
    expect(page.get_by_text(f"{len(both)} of 6 stand in both, {same} at the same place.")).to_be_visible()
    rows = page.get_by_role("table", name=f"List of {shelf}@2").locator("tbody tr")
    expect(rows).to_have_count(6)
    for row, place in zip(rows.all(), two, strict=True):
        expect(row).to_contain_text(place.item)
        expect(row.locator("td").nth(2)).to_have_text(str(there.get(place.item, "not")))
    expect(page.get_by_role("table", name=f"List of {shelf}@1").locator("tbody tr")).to_have_count(6)


def test_a_refresh_is_asked_for_and_its_end_is_told(page, demo):
    # without events: they would make a version of the data that other tests share
    shelf = "console-refreshed"
    file = FILE.replace("console-page", shelf) + "refresh: {events: false}\n"
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))
    page.goto(f"/shelves/{shelf}")
    expect(page.get_by_text("None is planned: the file names no refresh.every.")).to_be_visible()
    page.get_by_role("button", name="Refresh now").click()
    row = page.get_by_role("table", name="Refreshes").locator("tbody tr").first
    expect(row).to_contain_text(re.compile("kept|published|refused"))
    [newest] = demo.client.send(shelf_calls.refreshes(shelf, limit=1)).refreshes.items
    expect(row).to_contain_text(newest.reason or newest.published)


def test_a_shelf_is_evaluated_beside_a_run(page, demo, shelf):
    page.goto(f"/shelves/{shelf}")
    expect(page.get_by_role("combobox", name="Run on whose test part the shelf is evaluated")).to_have_value(
        re.compile(r"@\d+$")
    )
    page.goto(f"/shelves/{shelf}?run=first-look@1")
    page.get_by_role("button", name=re.compile(rf"Evaluate {shelf}@\d")).click()
    lists = page.get_by_role("table", name="Lists as served, without each part, and of the contenders").locator(
        "tbody tr"
    )
    expect(lists.first).to_contain_text("as served", timeout=30_000)
    expect(page).to_have_url(re.compile(r"evaluation=\d+"))
    job = int(re.search(r"evaluation=(\d+)", page.url).group(1))
    evaluation = demo.client.send(shelf_calls.shelf_evaluation(job))
    assert lists.count() == 1 + len(evaluation.variants) + len(evaluation.contenders)
    for figure in evaluation.figures:
        expect(lists.first).to_contain_text(f"{figure.mean:.4f}")
    expect(page.get_by_text(re.compile("Milliseconds of a list"))).to_be_visible()


def test_edits_survive_a_reload_and_another_tab_that_publishes_asks_a_question(page, demo):
    shelf = "console-edits"
    file = FILE.replace("console-page", shelf)
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))
    edited = file.replace("title: One", "title: Mine")
    page.goto(f"/shelves/{shelf}")
    editor = page.get_by_role("textbox", name="Shelf file, YAML")
    publish = page.get_by_role("button", name="Publish as the next version")
    editor.fill(edited)
    expect(publish).to_be_enabled()
    page.reload()
    expect(editor).to_have_value(edited)
    page.goto("/keys")
    page.go_back()
    expect(editor).to_have_value(edited)
    other = page.context.new_page()
    other.goto(f"/shelves/{shelf}")
    other_editor = other.get_by_role("textbox", name="Shelf file, YAML")
    # the edits of a tab that is open are its own
    expect(other_editor).to_have_value(file)
    other_editor.fill(file.replace("title: One", "title: Theirs"))
    other.get_by_role("button", name="Publish as the next version").click()
    expect(other.get_by_text("Serving version 2")).to_be_visible()
    other.close()
    page.reload()
    question = page.get_by_role("alert").filter(has_text=f"{shelf}@2 was published meanwhile")
    expect(question).to_contain_text("Your edits were begun on version 1.")
    expect(editor).to_have_value(edited)
    expect(publish).to_be_disabled()
    page.get_by_role("button", name="Keep my edits on top of version 2").click()
    expect(question).to_have_count(0)
    publish.click()
    expect(page.get_by_text("Serving version 3")).to_be_visible()
    assert demo.client.send(shelf_calls.shelf(shelf)).spec.title == "Mine"
    # what a closed tab left goes to the one that opens next
    editor.fill(edited.replace("Mine", "Left behind"))
    expect(publish).to_be_enabled()
    page.evaluate("() => sessionStorage.clear()")
    page.reload()
    expect(editor).to_have_value(re.compile("title: Left behind"))


def test_models_that_change_are_shown_and_confirmed(page, demo):
    shelf = "console-models"
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=FILE.replace("console-page", shelf))))
    page.goto(f"/shelves/{shelf}")
    partly = "Fitted on the training part only, without the newest rows: first-look.als@1, first-look.popular@1."
    expect(page.get_by_text(partly)).to_be_visible()
    editor = page.get_by_role("textbox", name="Shelf file, YAML")
    publish = page.get_by_role("button", name="Publish as the next version")
    editor.fill(FILE.replace("console-page", shelf).replace("first-look.als", "first-look.item_knn"))
    row = page.get_by_role("table", name="Models that change").locator("tbody tr")
    expect(row).to_contain_text(re.compile(r"first-look.als@1ndcg@10 0\.\d{4}, training part only"))
    expect(row).to_contain_text(re.compile(r"first-look.item_knn@1ndcg@10 0\.\d{4}, training part only"))
    expect(page.get_by_text("Models would change, see below: tick to confirm.")).to_be_visible()
    expect(publish).to_be_disabled()
    page.get_by_label("Update models").check()
    publish.click()
    expect(page.get_by_text("Serving version 2")).to_be_visible()
    assert demo.client.send(shelf_calls.shelf(shelf)).spec.main() == "first-look.item_knn@1"
