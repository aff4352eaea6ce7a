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


@pytest.fixture
def page(browser: Browser, demo) -> Iterator[Page]:
    """A page on the demo that fails the test on any script error or failed request."""
    context = browser.new_context(base_url=demo.url, viewport={"width": 1280, "height": 800}, accept_downloads=True)
    opened = context.new_page()
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    opened.on("console", lambda message: errors.append(message.text) if message.type == "error" else None)
    yield opened
    context.close()
    assert errors == []
