"""The console of a service that needs a key."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from console.conftest import Tab, window
from gleaner.wire.keys import Scope
from service.keys.test_sessions import key, locked  # noqa: F401 - a fixture


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
