"""A browser for the console's tests."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    # one process draws all pages: another for each is seconds of starting
    "--renderer-process-limit=1",
]
expect.set_options(timeout=45_000)


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        launched = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield launched
        launched.close()


def window(browser: Browser, url: str) -> BrowserContext:
    """What a person opens pages in: what one page has loaded the next has at hand."""
    context = browser.new_context(base_url=url, viewport={"width": 1280, "height": 800}, accept_downloads=True)
    context.set_default_timeout(90_000)
    return context


def watched(context: BrowserContext, forgiven: str | None = None) -> Iterator[Page]:
    """A page that fails the test on any script error or failed request. It leaves nothing in the window."""
    opened = context.new_page()
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    opened.on("console", lambda message: errors.append(message.text) if message.type == "error" else None)
    yield opened
    if opened.url.startswith("http"):
        opened.evaluate("() => { localStorage.clear(); sessionStorage.clear(); }")
    context.clear_cookies()
    opened.close()
    assert [error for error in errors if forgiven is None or forgiven not in error] == []


@pytest.fixture(scope="module")
def demo_window(browser: Browser, demo) -> Iterator[BrowserContext]:
    """A window on the demo."""
    context = window(browser, demo.url)
    yield context
    context.close()


@pytest.fixture
def page(demo_window: BrowserContext) -> Iterator[Page]:
    """A page on the demo."""
    yield from watched(demo_window)


@pytest.fixture
def refused_page(demo_window: BrowserContext) -> Iterator[Page]:
    """The same, on which a request may be refused for what it asks."""
    yield from watched(demo_window, "status of 422")
