"""The console of a service that needs a key."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import expect

from console.conftest import Tab, window
from gleaner.wire.keys import Scope
from service.keys.test_sessions import key, locked  # noqa: F401 - a fixture

FILE = Path(__file__).parents[1] / "fixtures" / "newcomer.csv"


@pytest.fixture
def asking(browser, locked):  # noqa: F811
    context = window(browser, locked[0].url)
    yield from Tab(context).lend("status of 401")
    context.close()


def test_whoever_is_not_let_in_signs_in_and_out(asking, locked):  # noqa: F811
    page, secret = asking, key(locked[1], "console-user", Scope.BUILD, Scope.SERVE)
    page.goto("/jobs")
    field = page.get_by_label("Key", exact=True)
    field.fill("glk_wrong")
    # whoever looks their key up elsewhere comes back to what they typed
    page.evaluate("dispatchEvent(new Event('visibilitychange'))")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("this key is unknown, has ended or was revoked")
    field.fill(secret)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_text("key console-user")).to_be_visible()
    expect(page.get_by_role("heading", name="Jobs", level=1)).to_be_visible()
    assert page.evaluate("document.cookie") == ""
    page.reload()
    expect(page.get_by_text("key console-user")).to_be_visible()
    page.get_by_role("button", name="Sign out").click()
    expect(field).to_be_visible()


def test_a_session_that_ends_within_a_form_loses_nothing_of_it(asking, locked):  # noqa: F811
    page, secret = asking, key(locked[1], "console-writer", Scope.BUILD)
    page.goto("/data/new")
    page.get_by_label("Key", exact=True).fill(secret)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_label("File of interactions").set_input_files(FILE)
    page.get_by_label("Name of the dataset").fill("half-written")
    page.context.clear_cookies()
    page.get_by_role("button", name="Look at every row first").click()
    page.get_by_label("Key", exact=True).fill(secret)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_label("Name of the dataset")).to_have_value("half-written")
    page.get_by_role("button", name="Look at every row first").click()
    expect(page.get_by_text("An import would keep 7,000 rows")).to_be_visible()
