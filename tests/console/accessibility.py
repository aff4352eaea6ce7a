"""The automated accessibility checks of a page."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page

AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
OF_COLOURS = ["color-contrast", "link-in-text-block"]
FIRST_ROWS = {"exclude": [["tbody tr:nth-child(n+5)"]]}
"""What is looked at: of each table four rows, which those after them are alike."""
SHOWN = 150
"""Characters of an element that a failure names."""


def violations(page: Page, *, only_colours: bool = False) -> list[tuple[str, str]]:
    """Every rule that is broken, with the first element that breaks it. only_colours: the rules that depend on the
    scheme of colours alone."""
    if page.evaluate("() => typeof axe === 'undefined'"):
        page.evaluate(AXE.read_text())
    # styles are not fetched once more: no rule that is on reads them
    options = {"resultTypes": ["violations"], "preload": False} | ({"runOnly": OF_COLOURS} if only_colours else {})
    # the broken rules alone cross over to this process: with all that were kept they are megabytes
    broken = page.evaluate("async (asked) => (await axe.run(...asked)).violations", [FIRST_ROWS, options])
    return [(rule["id"], rule["nodes"][0]["html"][:SHOWN]) for rule in broken]
