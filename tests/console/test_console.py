"""The console in Chromium, on the demo."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import expect

from console.accessibility import violations
from gleaner.client import data_calls, model_calls, shelf_calls

VIEWS = ["import", "rows", "sql", "item", "overlap", "features", "split", "versions"]
PAGES = [
    "/",
    "/data",
    "/data/new",
    *[f"/data/seeds@1?view={view}" for view in VIEWS],
    "/contests",
    "/contests/new?data=seeds@1",
    "/models",
    "/models/first-look.als@1",
    *[f"/models/first-look.als@1?view={view}" for view in ("training", "recommend&user=g-0417", "similar", "factors")],
    "/models/first-look.als@1?view=explain&user=g-0417&item=v-0007",
    "/shelves/for-growers?user=g-0417",
    "/shelves/new?model=first-look.als@1",
    "/data/seeds@1?view=user&user=g-0417",
    "/exports",
    "/live/seeds?view=hand",
    "/keys",
    "/jobs/1",
]


def test_pages_stand_in_the_order_of_the_work(page):
    page.goto("/")
    expect(page.get_by_role("heading", level=1)).to_have_text("Overview")
    links = page.get_by_role("navigation", name="Pages").get_by_role("link")
    assert [text.split()[0] for text in links.all_inner_texts()] == [
        "Overview",
        "Data",
        "Contests",
        "Models",
        "Shelves",
        "Taste",
        "Live",
        "Exports",
        "Keys",
        "Jobs",
    ]
    links.nth(4).press("Enter")
    expect(page).to_have_url(re.compile("/shelves$"))
    expect(page.get_by_role("heading", name="Try it")).to_be_visible()


def test_anything_is_found_by_its_name_from_the_keyboard(page):
    page.goto("/jobs")
    expect(page.get_by_role("heading", name="Ended")).to_be_visible()
    page.keyboard.press("Control+k")
    field = page.get_by_label("What to do, or a name")
    field.fill("first-look.als")
    expect(page.get_by_role("dialog").get_by_text("first-look.als@1", exact=True)).to_be_visible()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/models/first-look\.als@1$"))
    page.keyboard.press("Control+k")
    expect(field).to_be_focused()
    expect(field).to_have_value("")
    page.keyboard.type("write a")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/contests/new"))


def test_items_and_users_are_found_by_id_and_by_name(page, demo):
    page.goto("/jobs")
    expect(page.get_by_role("heading", name="Ended")).to_be_visible()
    page.keyboard.press("Control+k")
    field = page.get_by_label("What to do, or a name")
    field.fill("g-0417")
    found = page.get_by_role("dialog").get_by_text("g-0417", exact=True)
    expect(found).to_be_visible()
    found.click()
    expect(page).to_have_url(re.compile(r"/data/seeds@1\?view=user&user=g-0417$"))
    name = demo.client.send(data_calls.find_items("seeds", 1, "v-0007", limit=1))[0].label
    page.keyboard.press("Control+k")
    field.fill(name)
    page.get_by_role("dialog").get_by_text(f"{name} (v-0007)").click()
    expect(page).to_have_url(re.compile(r"/data/seeds@1\?view=item&item=v-0007$"))


def test_one_user_is_a_page(page, demo):
    page.goto("/data/seeds@1?view=user&user=g-0417")
    history = demo.client.send(data_calls.history("seeds", 1, "g-0417", limit=500))
    figures = page.locator("dl.figures").first
    expect(figures).to_contain_text(f"rows{history.total}")
    expect(figures).to_contain_text(f"items{len({row.item for row in history.rows})}")
    region = page.locator("section", has=page.get_by_role("heading", name="Kinds over time"))
    region.get_by_role("button", name="Table").click()
    months = region.get_by_role("table").locator("tbody tr")
    expect(months.first).to_contain_text(min(row.time for row in history.rows).strftime("%Y-%m"))
    served = demo.client.send(shelf_calls.recommend("for-growers", user="g-0417", n=10, record=False))
    listed = page.get_by_role("table", name="List of for-growers").locator("tbody tr")
    expect(listed).to_have_count(10)
    expect(listed.first).to_contain_text(served.list[0].item)
    alike = demo.client.send(model_calls.similar("first-look.als", "user", "g-0417", n=1)).list[0].id
    page.get_by_role("table", name="Users most alike").get_by_role("link", name=alike).click()
    expect(page).to_have_url(re.compile(rf"user={alike}$"))


@pytest.mark.parametrize(
    ("path", "what"),
    [("/nowhere", "No page has the address /nowhere"), ("/contests/nothing@9", "there is no contest run 'nothing@9'")],
)
def test_an_unknown_address_is_not_found(missing_page, path, what):
    missing_page.goto(path)
    expect(missing_page.get_by_text("Not found", exact=True).first).to_be_visible()
    expect(missing_page.get_by_text(what)).to_be_visible()
    expect(missing_page).to_have_url(re.compile(f"{path}$"))


def test_data_shows_what_the_api_says(page):
    page.goto("/data/seeds@1")
    expect(page.get_by_role("heading", level=1)).to_have_text("seeds@1")
    for label, value in (("rows", "90,000"), ("users", "1,500"), ("items", "898"), ("density", "2.6 %")):
        expect(page.locator("dl.figures > div", has=page.locator(f"dt:text-is('{label}')")).locator("dd")).to_have_text(
            value
        )
    for chart in ("Interactions per week", "Long tail", "Values (84,397 rows have none)"):
        expect(page.get_by_role("img", name=f"Chart: {chart}")).to_be_visible()
    for chart in ("Users by activity", "Items by activity", "Users by mean value", "Items by mean value"):
        expect(page.get_by_role("img", name=f"Chart: {chart}")).to_be_visible()
    # what is far below the window is drawn when somebody comes near it
    last = page.get_by_role("img", name="Chart: Items by mean value")
    expect(last.locator("svg")).to_have_count(0)
    last.scroll_into_view_if_needed()
    expect(last.locator("svg.recharts-surface")).to_be_visible()
    heights = [int(text) for text in last.locator(".recharts-yAxis-tick-labels text").all_text_contents()]
    assert heights == list(range(0, heights[-1] + 1, heights[1]))
    assert heights[1] in (20, 50)
    tail = page.locator("section", has=page.get_by_role("heading", name="Long tail"))
    tail.get_by_role("button", name="Table").click()
    expect(tail.get_by_role("row").nth(6)).to_contain_text(re.compile(r"10 %\s*56 %"))


def test_an_import_says_what_it_found(page):
    page.goto("/data/seeds@1?view=import")
    expect(page.get_by_text("2 items of varieties.csv without interactions")).to_be_visible()
    files = page.get_by_role("table", name="Files").locator("tbody tr")
    assert [text.split("\t")[1] for text in files.all_inner_texts()] == [
        "interactions.csv",
        "varieties.csv",
        "growers.csv",
    ]
    expect(files.first).to_contain_text("90,000")
    expect(page.get_by_role("table", name="Cells without a value")).to_contain_text("84,397")


def test_rows_are_found_by_a_condition_that_stays_in_the_address(page):
    page.goto("/data/seeds@1?view=rows")
    expect(page.get_by_text("100 of 90,000 rows, the first")).to_be_visible()
    page.get_by_text("items", exact=True).click()
    expect(page.get_by_role("radio", name="items")).to_be_checked()
    page.get_by_label("Condition").fill("'climbing' IN traits AND stock < 5")
    page.get_by_role("button", name="Show").click()
    expect(page.get_by_text("28 of 28 rows for which the condition holds")).to_be_visible()
    expect(page).to_have_url(re.compile("table=items&where="))
    rows = page.get_by_role("table", name="items").locator("tbody tr")
    assert all("climbing" in text for text in rows.all_inner_texts())
    with page.expect_download() as download:
        page.get_by_role("link", name="Whole table, Parquet").click()
    assert Path(download.value.path()).read_bytes().startswith(b"PAR1")
    with page.expect_download() as download:
        page.get_by_role("button", name="Parquet", exact=True).click()
    assert Path(download.value.path()).read_bytes().startswith(b"PAR1")


def test_a_wrong_condition_or_query_is_answered(failing_page):
    page = failing_page
    page.goto("/data/seeds@1?view=rows&where=nope%20%3D%201")
    expect(page.get_by_role("alert")).to_contain_text("there is no column 'nope'")
    page.goto("/data/seeds@1?view=sql&sql=DROP%20TABLE%20items")
    expect(page.get_by_role("alert")).to_contain_text("only a SELECT can be run")


def test_sql_is_run_and_its_rows_taken_along(page):
    page.goto("/data/seeds@1?view=sql")
    page.get_by_label("SQL").fill("SELECT zone, count(*) AS growers FROM users GROUP BY zone ORDER BY growers DESC")
    page.get_by_role("button", name="Run").click()
    answer = page.get_by_role("table", name="Answer")
    expect(answer.get_by_role("columnheader")).to_have_count(2)
    expect(page.get_by_text(re.compile("7 rows in"))).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("button", name="All rows, CSV").click()
    assert Path(download.value.path()).read_text().startswith("zone,growers\n")


def test_one_item_and_the_overlap_of_users(page):
    page.goto("/data/seeds@1?view=item")
    expect(page.get_by_role("img", name="Chart: Its values")).to_be_visible()
    together = page.get_by_role("table", name="Goes together with").locator("tbody tr")
    expect(together.first).to_contain_text("Sandpiper Gold Maize")
    together.first.get_by_role("link").click()
    expect(page).to_have_url(re.compile("item=v-0325"))
    page.goto("/data/seeds@1?view=overlap&user=g-0616&user=g-1178&user=g-0570")
    cells = page.get_by_role("table", name="Overlap map: Jaccard").locator("tbody td")
    expect(cells).to_have_text(["", "0.23", "0.23", "0.23", "", "0.13", "0.23", "0.13", ""])
    page.get_by_text("in common", exact=True).first.click()
    expect(page.get_by_role("table", name="Overlap map: in common").locator("tbody td").nth(1)).to_have_text("74")


def test_features_are_told_column_by_column(page):
    page.goto("/data/seeds@1?view=features")
    rows = page.get_by_role("table", name="Features of items").locator("tbody tr")
    expect(rows.nth(1)).to_contain_text("one-hot of 20 categories")
    expect(page.get_by_role("table", name="Features of users").locator("tbody tr")).to_have_count(4)


def test_a_split_is_tried_and_versions_compared(page, demo):
    page.goto("/data/seeds@1?view=split")
    page.get_by_role("button", name="Try it").click()
    parts = page.get_by_role("table", name="Parts").locator("tbody tr")
    expect(parts).to_have_count(3)
    expect(parts.nth(2)).to_contain_text("none found")
    expect(page.get_by_text("Leak check, test: no row is on both sides, and time runs from training")).to_be_visible()
    expect(page.get_by_role("table", name="Steps")).to_contain_text("users with at least 5 items")
    from gleaner.wire.imports import Roles

    for text in ("user,item\nu,a\nv,b\n", "user,item\nu,a\nw,c\n"):
        demo.add("pair", text, Roles(user="user", item="item"))
    page.goto("/data/pair@2?view=versions")
    expect(page.get_by_role("table", name="Versions").locator("tbody tr")).to_have_count(2)
    expect(
        page.locator("dl.figures > div", has=page.locator("dt:text-is('drift of popularity')")).locator("dd")
    ).to_have_text("0.500")


def test_a_chart_and_its_table_can_be_taken_along(page):
    page.goto("/data/seeds@1")
    values = page.locator("section", has=page.get_by_role("heading", name="Values"))
    values.scroll_into_view_if_needed()
    expect(values.locator("svg.recharts-surface")).to_be_visible()
    for button, start in (("SVG", b"<svg"), ("PNG", b"\x89PNG")):
        with page.expect_download() as download:
            values.get_by_role("button", name=button).click()
        assert Path(download.value.path()).read_bytes().startswith(start)
    values.get_by_role("button", name="Table").click()
    with page.expect_download() as download:
        values.get_by_role("button", name="CSV").click()
    assert Path(download.value.path()).read_text().splitlines()[0] == "value,rows"


def test_columns_of_a_table_are_chosen(page):
    page.goto("/contests/first-look@1")
    runs = page.get_by_role("table", name="All runs", exact=True)
    expect(runs.get_by_role("columnheader", name="winner")).to_be_visible()
    columns = page.get_by_role("button", name="Columns").last
    columns.click()
    page.get_by_role("checkbox", name="winner").uncheck()
    expect(runs.get_by_role("columnheader", name="winner")).to_have_count(0)
    with page.expect_download() as download:
        page.get_by_role("button", name="CSV").last.click()
    assert "winner" not in Path(download.value.path()).read_text().splitlines()[0]
    page.reload()
    expect(runs.get_by_role("columnheader", name="begun")).to_be_visible()
    expect(runs.get_by_role("columnheader", name="winner")).to_have_count(0)


def test_the_leaderboard_orders_and_keeps_its_choice_in_the_address(page):
    page.goto("/contests/first-look@1")
    board = page.get_by_role("table", name=re.compile("^Leaderboard"))
    expect(board.locator("tbody tr")).to_have_count(3)
    assert [row.split()[0] for row in board.locator("tbody tr").all_inner_texts()] == ["als", "item_knn", "popular"]
    expect(board.locator("tbody tr").first).to_contain_text("0.0837")
    expect(board.locator("tbody tr").first).to_contain_text("better (+0.0502)")
    expect(board.locator("tbody tr").first).to_contain_text(re.compile("winner", re.I))
    page.get_by_text("validation", exact=True).first.click()
    expect(page).to_have_url(re.compile("part=validation"))
    page.goto("/contests/first-look@1?metric=recall%405")
    expect(page.get_by_role("heading", name="Leaderboard, recall@5 on the test part")).to_be_visible()
    expect(page.get_by_role("img", name="Chart: recall against k, test part")).to_be_visible()
    board.get_by_role("button", name="recall@5").click()
    expect(board.get_by_role("columnheader", name=re.compile("recall@5"))).to_have_attribute("aria-sort", "descending")
    expect(page.get_by_text("percentile bootstrap over users")).to_be_visible()


def test_a_list_stands_beside_the_history_it_rests_on(page, demo):
    from gleaner.client import calls

    expected = demo.client.send(calls.recommend("for-growers", user="g-0417", n=10))
    page.goto("/shelves/for-growers")
    expect(page.get_by_role("alert")).to_contain_text("no user was named")
    picker = page.get_by_placeholder("someone anonymous")
    picker.fill("g-0417")
    page.get_by_role("option", name="g-0417").click()
    expect(page).to_have_url(re.compile("user=g-0417"))
    expect(page.get_by_role("heading", name="History of g-0417")).to_be_visible()
    rows = page.get_by_role("table", name="List").locator("tbody tr")
    expect(rows).to_have_count(10)
    expect(rows.first).to_contain_text(expected.list[0].item)
    assert [place.item in text for place, text in zip(expected.list, rows.all_inner_texts(), strict=True)] == [
        True
    ] * 10
    expect(page.get_by_role("table", name="History").locator("tbody tr").first).to_contain_text("v-0363")
    expect(page.get_by_text("left out: 11 known")).to_be_visible()
    page.get_by_placeholder("none").fill("v-0010")
    page.keyboard.press("Enter")
    expect(rows.first).not_to_contain_text("v-0010")
    page.get_by_role("button", name="Someone anonymous").click()
    expect(page.get_by_role("alert")).to_contain_text("no user was named")


def test_a_job_is_followed_and_cancelled(page, demo):
    run = demo.queue_contest("contest: watched\ndata: seeds@1\ncontenders: [{als: {rank: 64, iterations: 1000}}]\n")
    page.goto("/jobs")
    bar = page.get_by_role("progressbar", name=f"Progress of job {run.job}")
    expect(bar).to_be_visible()
    expect(page.get_by_text("als: fitting for validation")).to_be_visible()
    early = int(float(bar.get_attribute("aria-valuenow")))
    expect(bar).not_to_have_attribute("aria-valuenow", re.compile(rf"^{early}(\.|$)"), timeout=15_000)
    page.get_by_role("button", name="Cancel").click()
    question = page.get_by_role("dialog", name=f"Cancel job {run.job}?")
    expect(question).to_contain_text("Contenders that are done keep their figures and models")
    question.get_by_role("button", name="No").click()
    expect(question).to_have_count(0)
    expect(bar).to_be_visible()
    page.get_by_role("button", name="Cancel").click()
    question.get_by_role("button", name="Cancel the job").click()
    ended = page.get_by_role("table", name="Ended jobs").locator("tbody tr").first
    expect(ended).to_contain_text(f"{run.job}")
    expect(ended).to_contain_text("cancelled")
    expect(page.get_by_text("Nothing runs and nothing waits.")).to_be_visible()
    # the contender that was being fitted left no model
    assert not [
        each for each in demo.client.send(model_calls.list_models()).items if each.name.startswith("watched.als")
    ]


@pytest.mark.parametrize("path", PAGES)
def test_pages_pass_the_accessibility_checks(tall_tab, path):
    page = tall_tab.page
    page.emulate_media(color_scheme="light")
    tall_tab.follow(path)
    grounds = []
    for scheme in ("light", "dark"):
        page.emulate_media(color_scheme=scheme)
        expect(page.locator("html")).to_have_attribute("data-mantine-color-scheme", scheme)
        # colours fade over, and what is half-way is nobody's contrast; an animation whose element goes is over too
        page.evaluate("() => Promise.allSettled(document.getAnimations().map((each) => each.finished))")
        grounds.append(page.evaluate("() => getComputedStyle(document.body).backgroundColor"))
        assert violations(page, only_colours=scheme == "dark") == [], scheme
    assert grounds[0] != grounds[1]


def test_what_is_missing_is_said(failing_page):
    page = failing_page
    page.goto("/data/nope@1")
    expect(page.get_by_role("alert")).to_contain_text("there is no dataset 'nope'")
    page.goto("/contests/nope")
    expect(page.get_by_role("alert")).to_contain_text("there is no contest run 'nope'")
    page.route("**/v1/**", lambda route: route.abort())
    page.goto("/models")
    expect(page.get_by_role("status", name="Loading")).to_be_visible()
    expect(page.get_by_role("alert")).to_contain_text("The service does not answer.", timeout=15_000)


@pytest.mark.parametrize(
    ("path", "way", "to"),
    [
        ("/data", "Bring data in", "/data/new"),
        ("/contests", "Write a contest", "/contests/new"),
        ("/models", "Write a contest", "/contests/new"),
        ("/shelves", "Build a shelf", "/shelves/new"),
        ("/jobs", "Bring data in", "/data/new"),
    ],
)
def test_empty_pages_lead_to_what_fills_them(page, path, way, to):
    page.route("**/v1/*", lambda route: route.fulfill(json={"items": [], "next": None}))
    page.goto(path)
    page.locator(".empty").get_by_role("link", name=way).wait_for()
    # the page that it leads to asks for more than pages of lists, and would meet a form that no call of its answers with
    page.unroute_all()
    page.locator(".empty").get_by_role("link", name=way).click()
    expect(page).to_have_url(re.compile(f"{to}$"))


def test_the_first_load_is_small():
    import gzip

    built = Path(__file__).parents[2] / "src/gleaner/service/console"
    names = re.findall(r'(?:src|href)="/(assets/[^"]+\.js)"', (built / "index.html").read_text())
    assert names
    size = sum(len(gzip.compress((built / name).read_bytes())) for name in names)
    assert size < 350_000
    assert "://" not in "".join(re.findall(r'(?:src|href)="([^"]+)"', (built / "index.html").read_text()))


def test_pages_may_load_from_the_service_only(demo):
    policy = demo.http.get("/data").headers["content-security-policy"]
    assert "default-src 'self'" in policy
    assert "frame-ancestors 'none'" in policy
    for path in ("/..%2f..%2fsettings.py", "/assets/none.js", "/v1/none"):
        assert demo.http.get(path).status_code in (200, 400, 404)
        assert "GLEANER_" not in demo.http.get(path).text
