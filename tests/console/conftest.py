"""A browser for the console's tests."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, ViewportSize, expect, sync_playwright

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
WINDOW: ViewportSize = {"width": 1280, "height": 800}
WHOLE: ViewportSize = {"width": 1280, "height": 2400}


@pytest.fixture(scope="package")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        launched = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield launched
        launched.close()


def window(browser: Browser, url: str) -> BrowserContext:
    """What a person opens pages in: what one page has loaded the next has at hand."""
    # nothing is faded in or out, which a tester does not see
    context = browser.new_context(base_url=url, viewport=WINDOW, accept_downloads=True, reduced_motion="reduce")
    context.set_default_timeout(90_000)
    return context


def choose(page: Page, label: str, option: str) -> None:
    """Choose an option of a list."""
    page.get_by_role("combobox", name=label, exact=True).click()
    page.get_by_role("option", name=option, exact=True).click()


FOLLOW = """async (path) => {
    history.pushState(null, "", path);
    dispatchEvent(new PopStateEvent("popstate"));
    const fetched = () => performance.getEntriesByType("resource").length;
    for (let still = 0, before = -1; still < 4; ) {
        await new Promise((done) => setTimeout(done, 50));
        still = before === fetched() && !document.querySelector("[role=status][aria-label=Loading]") ? still + 1 : 0;
        before = fetched();
    }
}"""
"""A page stands when for a while nothing was fetched and nothing says that it is loading."""


class Tab:
    """One page of a window, which tests take in turn: the console's code is compiled once for all."""

    def __init__(self, context: BrowserContext) -> None:
        self.page = context.new_page()
        self._errors: list[str] = []
        self.page.on("pageerror", lambda error: self._errors.append(str(error)))
        self.page.on("console", lambda message: self._errors.append(message.text) if message.type == "error" else None)

    def follow(self, path: str) -> None:
        """Go to a page as its links do, without loading the console anew, and wait until it stands."""
        self._errors.clear()
        self.page.evaluate(FOLLOW, path)
        expect(self.page.get_by_role("heading", level=1)).to_be_visible()
        assert self._errors == []

    def lend(self, forgiven: str | None = None) -> Iterator[Page]:
        """The page, which fails the test on any script error or failed request. A test leaves nothing in the window."""
        self._errors.clear()
        yield self.page
        found = [error for error in self._errors if forgiven is None or forgiven not in error]
        self.page.unroute_all()
        if self.page.url.startswith("http"):
            self.page.evaluate("() => { localStorage.clear(); sessionStorage.clear(); }")
        self.page.context.clear_cookies()
        self.page.goto("about:blank")
        assert found == []


@pytest.fixture(scope="package")
def demo_window(browser: Browser, demo) -> Iterator[BrowserContext]:
    """A window on the demo."""
    context = window(browser, demo.url)
    yield context
    context.close()


@pytest.fixture(scope="package")
def demo_tab(demo_window: BrowserContext) -> Tab:
    """Its page."""
    return Tab(demo_window)


@pytest.fixture
def page(demo_tab: Tab) -> Iterator[Page]:
    """A page on the demo."""
    yield from demo_tab.lend()


@pytest.fixture(scope="module")
def tall_tab(demo_window: BrowserContext) -> Iterator[Tab]:
    """A page of its own that is high enough for charts far down to be drawn, and goes from one place to the next."""
    tab = Tab(demo_window)
    tab.page.set_viewport_size(WHOLE)
    tab.page.goto("/")
    yield tab
    tab.page.close()


@pytest.fixture
def missing_page(demo_tab: Tab) -> Iterator[Page]:
    """The same, on which a request may ask for what there is not."""
    yield from demo_tab.lend("status of 404")


@pytest.fixture
def refused_page(demo_tab: Tab) -> Iterator[Page]:
    """The same, on which a request may be refused for what it asks."""
    yield from demo_tab.lend("status of 422")


@pytest.fixture
def failing_page(demo_tab: Tab) -> Iterator[Page]:
    """The same, on which what is asked for may not be had."""
    yield from demo_tab.lend("Failed to load resource")
