"""Someone new, in the browser alone: a file that the service has never seen becomes a shelf that is served."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path
from threading import Thread

import pytest
from playwright.sync_api import Browser, Page, expect

from console.accessibility import violations
from console.conftest import Tab, choose, window
from gleaner.client import calls, data_calls, shelf_calls
from stack import Stack

FILE = Path(__file__).parents[1] / "fixtures" / "newcomer.csv"


@pytest.fixture(scope="module")
def empty() -> Iterator[Stack]:
    """A Gleaner in which there is nothing yet."""
    running = Stack()
    yield running
    running.stop()


@pytest.fixture(scope="module")
def tab(browser: Browser, empty: Stack) -> Iterator[Tab]:
    """A page on it; what is kept in the browser stays from one test to the next, as it does for a person."""
    context = window(browser, empty.url)
    yield Tab(context)
    context.close()


@pytest.fixture
def page(tab: Tab) -> Page:
    """The page."""
    return tab.page


def picture(page: Page, name: str) -> None:
    """Keep what the guide shows, where a folder is named: GLEANER_TEST_PICTURES=docs/screenshots takes them anew."""
    if folder := os.environ.get("GLEANER_TEST_PICTURES"):
        page.wait_for_load_state("networkidle")
        page.screenshot(path=Path(folder) / f"{name}.png")


def test_a_file_is_looked_at_before_it_is_brought_in(page, empty):
    page.goto("/")
    expect(page.get_by_text("Nothing is here yet.")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("link", name="Bring data in").click()
    page.get_by_label("File of interactions").set_input_files(FILE)
    for column, role in (("borrower", "user"), ("packet", "item"), ("action", "kind"), ("on", "time")):
        expect(page.get_by_role("combobox", name=f"Role of {column}", exact=True)).to_have_value(role)
    expect(page.get_by_role("table", name="First rows of newcomer.csv")).to_contain_text("looked up")
    expect(page.get_by_label("Name of the dataset")).to_have_value("newcomer")
    page.get_by_role("button", name="Look at every row first").click()
    expect(page.get_by_text("An import would keep 7,000 rows of 258 users and 90 items.")).to_be_visible()
    assert empty.client.send(data_calls.list_datasets()).items == []
    page.evaluate("() => scrollTo(0, 0)")
    picture(page, "console-import")
    assert violations(page) == []


def test_the_import_is_a_file_too_which_the_command_takes(page, empty, tmp_path):
    file = page.get_by_role("textbox", name="The same as a file")
    expect(file).to_have_value(re.compile(r"^interactions:\n  file: newcomer.csv\nroles:\n  user: borrower\n"))
    file.fill(file.input_value() + "strictness: lenient # rows in doubt go\n")
    strictness = page.get_by_role("combobox", name="When something is wrong")
    expect(strictness).to_have_value("Rows that cannot be read are dropped and counted")
    expect(file).to_have_value(re.compile("# rows in doubt go"))
    (tmp_path / "map.yaml").write_text(file.input_value())
    (tmp_path / FILE.name).write_bytes(FILE.read_bytes())
    looked = empty.gleaner("data", "add", "by-map", "--map", str(tmp_path / "map.yaml"), "--only-look")
    assert "An import would keep 7,000 rows" in looked.stdout, looked.stderr
    file.fill("interactions: {file: other.csv}")
    expect(page.get_by_text('the file "other.csv" was not dropped or chosen here')).to_be_visible()
    expect(strictness).to_have_value("Rows that cannot be read are dropped and counted")
    choose(page, "When something is wrong", "A row that cannot be read refuses the import")


def test_a_table_is_joined_and_how_a_file_is_read_is_set_by_hand(page, tmp_path):
    table = tmp_path / "actions.csv"
    table.write_text("action,strength\nlooked up,1\nput aside,2\nborrowed,3\nreturned,1\n")
    page.get_by_role("button", name="Add a table to join").click()
    page.get_by_label("File of a table to join").set_input_files(table)
    expect(page.get_by_role("table", name="First rows of actions.csv")).to_contain_text("put aside")
    page.get_by_role("button", name="Make a column out of another").first.click()
    choose(page, "How", "add from a table to join")
    choose(page, "Column", "action")
    expect(page.get_by_role("group", name="A new column")).to_contain_text("strength: 1, 2")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("table", name="First rows of newcomer.csv")).to_contain_text("strength")
    page.get_by_role("button", name="Remove").last.click()
    page.get_by_role("button", name="Remove").first.click()
    expect(page.get_by_text("Table to join:")).to_have_count(0)
    page.get_by_role("button", name="How it is read").click()
    choose(page, "Separator", "comma")
    # there is no comma in it: one column is all there is
    expect(page.get_by_role("table", name="First rows of newcomer.csv").locator("thead th")).to_have_count(1)
    choose(page, "Separator", "semicolon")
    expect(page.get_by_role("table", name="First rows of newcomer.csv").locator("thead th")).to_have_count(4)


def test_an_import_that_fails_says_why_and_loses_nothing(page):
    choose(page, "Role of action", "value")
    page.get_by_role("button", name="Import", exact=True).click()
    expect(page.get_by_role("alert").filter(has_text="looked up")).to_be_visible()
    expect(page.get_by_label("Name of the dataset")).to_have_value("newcomer")
    choose(page, "Role of action", "kind")


def test_roles_are_changed_by_hand_and_a_column_is_made_of_another(page):
    choose(page, "Role of packet", "left out")
    expect(page.get_by_text("Say above which column is the item.")).to_be_visible()
    expect(page.get_by_role("button", name="Import", exact=True)).to_be_disabled()
    choose(page, "Role of packet", "item")
    page.get_by_role("button", name="Make a column out of another").click()
    choose(page, "Column", "on")
    page.get_by_role("textbox", name="Separator").fill("T")
    page.get_by_label("New columns, with commas").fill("day, hour")
    expect(page.get_by_role("group", name="A new column")).to_contain_text(
        re.compile(r"day: 2024-03-01.*hour: 03:49:13Z", re.S)
    )
    page.get_by_role("button", name="Add", exact=True).click()
    choose(page, "Role of day", "context")
    # a reload loses nothing of it
    page.reload()
    expect(page.get_by_role("combobox", name="Role of day", exact=True)).to_have_value("context")
    expect(page.get_by_label("Name of the dataset")).to_have_value("newcomer")


def test_it_is_brought_in_and_what_comes_next_is_named(page, empty):
    page.get_by_role("button", name="Import", exact=True).click()
    expect(page).to_have_url(re.compile(r"/data/newcomer@1\?view=import$"))
    version = empty.client.send(data_calls.dataset_version("newcomer", 1))
    assert (version.rows, version.users, version.items) == (7000, 258, 90)
    assert [column.name for column in version.context_columns] == ["day"]
    expect(page.get_by_role("table", name="Files")).to_contain_text("7,000")
    page.get_by_role("link", name="compare models on it").click()
    expect(page).to_have_url(re.compile(r"/contests/new\?data=newcomer@1$"))


def test_a_contest_is_a_form_and_a_file_each_following_the_other(page):
    file = page.get_by_role("textbox", name="Contest file, YAML")
    expect(page.get_by_text("Nothing wrong. It will take about")).to_be_visible()
    expect(page.get_by_role("table", name="Steps").locator("tbody tr").last).to_contain_text("1,419")
    page.get_by_label("Fewest items of a user").fill("2")
    expect(file).to_have_value(re.compile(r"min_user: 2 # prune users"))
    expect(page.get_by_role("table", name="Steps").locator("tbody tr").last).to_contain_text("1,709")
    file.fill(file.input_value().replace("min_item: 5", "min_item: 0"))
    expect(page.get_by_label("Fewest users of an item")).to_have_value("0")
    expect(page.get_by_text(re.compile(r"line \d+: prepare.min_item: .*greater than or equal to 1"))).to_be_visible()
    expect(page.get_by_role("button", name="Start", exact=True)).to_be_disabled()
    page.get_by_label("Fewest users of an item").fill("4")
    written = file.input_value()
    file.fill(written.replace("rank: {", "rank: {{"))
    form = page.get_by_role("group", name="The file as a form")
    expect(form.get_by_text(re.compile(r"The file has a mistake: line \d+: "))).to_be_visible()
    expect(form.get_by_label("Name", exact=True)).to_have_value("newcomer-first")
    expect(form.get_by_label("Name", exact=True)).to_be_disabled()
    expect(page.get_by_role("region", name="item_knn", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name="Start", exact=True)).to_be_disabled()
    file.fill(written)
    expect(form.get_by_label("Name", exact=True)).to_be_enabled()
    for label in ("als", "bpr", "item_linear"):
        page.get_by_role("region", name=label, exact=True).get_by_role("button", name="Remove").click()
    knn = page.get_by_role("region", name="item_knn", exact=True)
    knn.get_by_role("button", name="Parameters").click()
    knn.get_by_label("neighbours", exact=True).fill("-3")
    page.keyboard.press("Tab")
    expect(knn.get_by_role("alert")).to_contain_text("neighbours must be")
    knn.get_by_label("neighbours", exact=True).fill("30")
    page.keyboard.press("Tab")
    expect(file).to_have_value(re.compile(r"- item_knn: \{neighbours: 30\}"))
    expect(knn.get_by_text("about")).to_be_visible()
    assert violations(page) == []
    page.evaluate("() => scrollTo(0, 0)")
    picture(page, "console-contest")


def test_a_service_that_does_not_answer_loses_nothing_of_a_form(page):
    file = page.get_by_role("textbox", name="Contest file, YAML")
    page.route("**/v1/**", lambda route: route.abort())
    page.get_by_label("Fewest items of a user").fill("3")
    expect(page.get_by_role("alert").filter(has_text="The service does not answer.").first).to_be_visible()
    expect(page.get_by_role("button", name="Start", exact=True)).to_be_disabled()
    page.unroute_all()
    # the page asks again by itself
    expect(page.get_by_text("Nothing wrong. It will take about")).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)
    expect(file).to_have_value(re.compile(r"min_user: 3"))
    page.get_by_label("Fewest items of a user").fill("2")
    expect(page.get_by_text("Nothing wrong. It will take about")).to_be_visible()
    expect(file).to_have_value(re.compile(r"- item_knn: \{neighbours: 30\}"))


def test_it_is_run_and_its_best_is_fitted_for_release(page, empty):
    page.get_by_role("button", name="Start", exact=True).click()
    expect(page).to_have_url(re.compile(r"/contests/newcomer-first@1$"))
    expect(page.get_by_text("Best on validation:")).to_be_visible()
    run = empty.client.send(calls.run("newcomer-first"))
    assert {each.contender for each in run.standings} == {"popular", "item_knn"}
    assert run.spec.prepare.min_user == 2
    page.get_by_role("button", name=re.compile("^Fit .* on every row$")).click()
    page.get_by_role("link", name="Build a shelf with it").click()
    expect(page.get_by_role("textbox", name="Shelf file, YAML")).to_have_value(re.compile("shelf: newcomer-first-"))


def test_a_shelf_is_built_published_and_refreshed(page, empty):
    page.get_by_label("Name", exact=True).fill("for-borrowers")
    page.get_by_role("combobox", name="Pin an item, by id or name").fill("p0053")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Pin it").click()
    expect(page.get_by_label("Pinned items")).to_contain_text("Place 1: p0053")
    choose(page, "When, in UTC", "every night at 3")
    expect(page.get_by_role("textbox", name="Shelf file, YAML")).to_have_value(re.compile(r"every: 0 3 \* \* \*"))
    expect(page.get_by_text("Nothing wrong.")).to_be_visible()
    picture(page, "console-shelf")
    page.get_by_role("button", name="Publish", exact=True).click()
    expect(page).to_have_url(re.compile("/shelves/for-borrowers$"))
    assert empty.client.send(shelf_calls.shelf("for-borrowers")).spec.refresh.every == "0 3 * * *"
    page.goto("/shelves/for-borrowers?user=b0011")
    expect(page.get_by_role("table", name="List").locator("tbody tr")).to_have_count(10)
    answer = empty.client.send(calls.recommend("for-borrowers", user="b0011", n=10, explain=True))
    stages = page.get_by_label("Stages of the list").locator("li")
    expect(stages).to_have_count(len(answer.stages))
    expect(stages.last).to_contain_text(f"{answer.stages[-1].items}")
    page.get_by_role("button", name="Refresh now").click()
    expect(page.get_by_role("table", name="Refreshes").locator("tbody tr").first).to_contain_text("kept")
    page.goto("/")
    served = page.get_by_role("table", name="Served shelves").locator("tbody tr")
    expect(served).to_have_count(1)
    expect(served).to_contain_text("for-borrowers@1")
    expect(served).to_contain_text("kept")
    picture(page, "console-overview")


def test_its_lists_are_exported_and_scored_as_if_made_elsewhere(page, tmp_path):
    page.goto("/exports")
    choose(page, "Of the shelf", "for-borrowers")
    page.get_by_role("button", name="Export", exact=True).click()
    row = page.get_by_role("table", name="Exports").locator("tbody tr").first
    expect(row).to_contain_text("for-borrowers@1")
    with page.expect_download() as download:
        row.get_by_role("link", name="fetch").click()
    fetched = Path(download.value.path())
    lines = fetched.read_text().splitlines()
    assert lines[0].startswith("user,")
    assert len(lines) > 1000
    # and scored again as lists that were made elsewhere
    lists = tmp_path / "theirs.csv"
    lists.write_bytes(fetched.read_bytes().replace(b"user,", b"reader,", 1))
    page.goto("/contests/newcomer-first@1")
    page.get_by_role("button", name="How it is read").click()
    page.get_by_label("Column of the user").fill("reader")
    page.get_by_label("Lists made elsewhere").set_input_files(lists)
    expect(page.get_by_role("table", name="Lists scored and analysed")).to_contain_text("theirs")
    expect(page).to_have_url(re.compile(r"lists=\d+"))
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Analyse a file of lists").click()
    chooser.value.set_files(lists)
    expect(page.get_by_role("table", name="Unexpectedness of theirs.csv")).to_be_visible()


def test_one_model_is_trained_alone_after_an_estimate(page, empty):
    page.goto("/models")
    page.get_by_role("link", name="Train one alone").click()
    choose(page, "Family", "item_content")
    expect(page.get_by_role("alert")).to_contain_text("item_content")
    choose(page, "Family", "biases")
    expect(page.get_by_role("alert")).to_be_visible()
    choose(page, "Family", "als")
    page.get_by_label("rank", exact=True).fill("no number")
    page.keyboard.press("Tab")
    expect(page.get_by_role("alert")).to_contain_text("rank must be")
    page.get_by_label("rank", exact=True).fill("4")
    page.keyboard.press("Tab")
    expect(page.get_by_text(re.compile(r"^About .* for 258 users, 90 items and at most"))).to_be_visible()
    page.get_by_role("button", name="Train", exact=True).click()
    expect(page).to_have_url(re.compile(r"/models/newcomer\.als@1$"))
    assert empty.client.send(calls.model("newcomer.als")).params["rank"] == 4
    page.get_by_role("button", name="Remove this model").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove").click()
    expect(page).to_have_url(re.compile("/models$"))
    assert "newcomer.als@1" not in {each.name for each in empty.client.send(calls.list_models()).items}


def test_a_version_is_added_to_and_a_user_is_forgotten(page, empty, tmp_path):
    page.goto("/data/newcomer@1?view=versions")
    page.get_by_role("link", name="Add rows to newcomer@1").click()
    more = tmp_path / "more.csv"
    more.write_text("borrower;packet;action;on\nb0999;p0053;borrowed;2026-09-01T10:00:00Z\n")
    page.get_by_label("File of interactions").set_input_files(more)
    expect(page.get_by_role("combobox", name="These rows become")).to_have_value("added to newcomer@1")
    for column, role in (("borrower", "user"), ("packet", "item"), ("action", "kind"), ("on", "time")):
        if page.get_by_role("combobox", name=f"Role of {column}", exact=True).input_value() != role:
            choose(page, f"Role of {column}", role)
    page.get_by_role("button", name="Import", exact=True).click()
    expect(page).to_have_url(re.compile(r"/data/newcomer@2\?view=import$"))
    page.goto("/data/newcomer@2?view=versions")
    page.get_by_role("combobox", name="A user, by id or name").fill("b0999")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Forget this user").click()
    expect(page.get_by_role("dialog")).to_contain_text("Every row of b0999 goes from every version of newcomer")
    page.get_by_role("dialog").get_by_role("button", name="Forget").click()
    expect(page.get_by_role("status").filter(has_text="1 row removed from 1 version")).to_be_visible()
    assert empty.client.send(calls.find_users("newcomer", 2, "b0999")) == []
    # a version that a shelf's models learned from stays
    page.goto("/data/newcomer@1?view=versions")
    page.get_by_role("button", name="Remove newcomer@1").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove").click()
    expect(page.get_by_role("alert")).to_contain_text("newcomer@1")


def test_a_key_is_made_rotated_and_revoked(page, empty):
    page.goto("/keys")
    page.get_by_label("Name", exact=True).fill("mine")
    page.get_by_role("combobox", name="What it may do").click()
    page.get_by_role("option", name=re.compile("^admin")).click()
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Make it").click()
    secret = page.locator("pre").inner_text()
    assert secret.startswith("glk_")
    page.get_by_role("button", name="I have kept it").click()
    expect(page.get_by_text(secret)).to_have_count(0)
    page.get_by_role("button", name="Rotate mine").click()
    page.get_by_role("dialog").get_by_role("button", name="Rotate").click()
    expect(page.locator("pre")).to_have_text(re.compile("^glk_"))
    assert page.locator("pre").inner_text() != secret
    page.get_by_role("button", name="Revoke mine").click()
    expect(page.get_by_role("dialog")).to_contain_text("A revoked key does not come back.")
    page.get_by_role("dialog").get_by_role("button", name="Revoke").click()
    expect(page.get_by_role("table", name="Keys").locator("tbody tr")).to_contain_text("revoked")
    assert all(key.revoked_at for key in empty.client.send(calls.list_keys()).items)
    expect(page.get_by_role("table", name="Writes").locator("tbody tr").first).to_contain_text("/v1/keys/mine/revoke")


def test_the_example_is_brought_in_once_however_many_ask(empty):
    def ask(answers):
        answers.append(empty.http.post("/v1/example-data").status_code)

    answers: list[int] = []
    threads = [Thread(target=ask, args=(answers,)) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(answers) == [202, 409, 409]
    [job] = empty.client.send(calls.list_jobs(kind="import", limit=1)).items
    empty.client.send(calls.cancel_job(job.id))
