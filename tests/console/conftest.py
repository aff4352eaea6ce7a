"""A browser for the console's tests."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
expect.set_options(timeout=45_000)


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        launched = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield launched
        launched.close()


def watched(browser: Browser, url: str, forgiven: str | None = None) -> Iterator[Page]:
    context = browser.new_context(base_url=url, viewport={"width": 1280, "height": 800}, accept_downloads=True)
    context.set_default_timeout(90_000)
    opened = context.new_page()
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    opened.on("console", lambda message: errors.append(message.text) if message.type == "error" else None)
    yield opened
    context.close()
    assert [error for error in errors if forgiven is None or forgiven not in error] == []


@pytest.fixture
def page(browser: Browser, demo) -> Iterator[Page]:
    """A page on the demo that fails the test on any script error or failed request."""
    yield from watched(browser, demo.url)


@pytest.fixture
def refused_page(browser: Browser, demo) -> Iterator[Page]:
    """The same, on which a request may be refused for what it asks."""
    yield from watched(browser, demo.url, "status of 422")
