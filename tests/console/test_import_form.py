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


ROWS = "member,thing,action\n" + "".join(f"m{n % 7},t{n % 5},looked\n" for n in range(60))


def test_a_table_that_cannot_be_read_is_told_beside_it_and_hides_nothing(page):
    page.goto("/data/new")
    upload(page, ROWS)
    choose(page, "Role of action", "context")
    damaged = {"name": "things.xlsx", "mimeType": "application/zip", "buffer": b"PK\x03\x04 and no more"}
    page.get_by_label("File of items").set_input_files(damaged)
    items = page.get_by_role("region", name="Items")
    expect(items.get_by_role("alert")).to_contain_text("things.xlsx is no XLSX workbook, or is damaged")
    expect(page.get_by_role("combobox", name="Role of action", exact=True)).to_have_value("context")
    # with nothing looked into before, too
    page.reload()
    expect(items.get_by_role("alert")).to_contain_text("damaged")
    expect(page.get_by_role("combobox", name="Role of action", exact=True)).to_have_value("context")
    items.get_by_role("button", name="Replace file").click()
    things = {"name": "things.csv", "mimeType": "text/csv", "buffer": b"thing,size\nt1,4\nt2,5\n"}
    page.get_by_label("File of items").set_input_files(things)
    expect(items.get_by_role("alert")).to_have_count(0)
    expect(page.get_by_role("heading", name="things.csv")).to_be_visible()


def test_rows_read_in_a_wrong_way_keep_their_roles_on_the_page(refused_page):
    page = refused_page
    page.goto("/data/new")
    upload(page, ROWS)
    choose(page, "Role of action", "context")
    interactions = page.get_by_role("region", name="Interactions")
    interactions.get_by_role("button", name="How it is read").click()
    choose(page, "Format", "parquet")
    expect(interactions.get_by_role("alert")).to_contain_text("rows.csv")
    expect(page.get_by_role("combobox", name="Role of action", exact=True)).to_have_value("context")
    choose(page, "Format", "csv")
    expect(interactions.get_by_role("alert")).to_have_count(0)
    expect(page.get_by_role("combobox", name="Role of action", exact=True)).to_have_value("context")
