"""The import form on files as they are: times of another country, a few dirty rows."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from console.conftest import choose


def upload(page, text: str) -> None:
    page.get_by_role("button", name="Start over").click()
    file = {"name": "rows.csv", "mimeType": "text/csv", "buffer": text.encode()}
    page.get_by_label("File of interactions").set_input_files(file)


def rows_of(times: list[str]) -> str:
    return "member,thing,bestellt\n" + "".join(f"m{n % 7},t{n % 5},{time}\n" for n, time in enumerate(times))


def test_the_format_of_times_is_found_and_offered(page):
    page.goto("/data/new")
    upload(page, rows_of([f"{1 + n % 28:02}.04.2026 09:{n:02}" for n in range(58)] + ["kaputt", "31.02.2026 10:00"]))
    written = page.get_by_role("combobox", name="Format of bestellt")
    expect(written).to_have_value("found: day first, with time")
    # days up to the twelfth do not tell day from month
    upload(page, rows_of([f"{1 + n % 12:02}/{1 + n % 11:02}/2026" for n in range(40)]))
    expect(written).to_have_value(re.compile("found: (day|month) first, date only"))
    expect(page.get_by_text("Day or month first? Choose.")).to_be_visible()
    choose(page, "Format of bestellt", "month first, date only: %m/%d/%Y (100 %)")
    expect(page.get_by_text("Day or month first? Choose.")).to_have_count(0)
    expect(written).to_have_value("month first, date only: %m/%d/%Y (100 %)")
