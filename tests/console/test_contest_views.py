"""The contest page's views of what was tried and what to release, in Chromium."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from console.accessibility import violations
from console.conftest import choose
from gleaner.client import calls

FILE = """\
contest: shown
data: seeds@1
prepare: {kinds: {view: 1, save: 3, request: 5}, min_user: 5, min_item: 5}
rank: {at: [5, 10], metrics: [ndcg, recall, coverage], decide_by: ndcg@10}
contenders:
  - popular
  - item_linear: {regularisation: {between: [10, 1000], log: true}}
  - als: {rank: {choose: [4, 8]}, iterations: 4}
    without: [kinds.view]
shelves: [{shelf: counter, candidates: [{model: als}, {model: popular}], score: {model: als}, fallback: [{model: popular}]}]
tune: {attempts: 3}
curves: {every: 1, amounts: [0.5]}
"""


@pytest.fixture(scope="module")
def run(demo):
    return demo.run_contest(FILE)


def test_what_was_tried_is_drawn_and_listed(page, run):
    page.goto(f"/contests/{run.name}")
    expect(page.get_by_role("heading", name="Tuning of item_linear, scored on validation")).to_be_visible()
    expect(page.get_by_role("img", name="Chart: regularisation against ndcg@10")).to_be_visible()
    attempts = page.get_by_role("table", name="Attempts of item_linear")
    expect(attempts.locator("tbody tr")).to_have_count(3)
    page.get_by_role("radiogroup", name="Tuned contender").get_by_text("als").click()
    expect(page).to_have_url(re.compile("tuned=als"))
    expect(page.get_by_role("img", name="Chart: rank against loss on validation")).to_be_visible()
    expect(
        page.get_by_role("table", name="Attempts of als").get_by_role("columnheader", name="validation loss")
    ).to_be_visible()
    part = page.get_by_role("table", name="What parts of the preparation add").locator("tbody tr")
    expect(part).to_contain_text("kinds.view")
    expect(part).to_contain_text("helps")


def test_a_shelf_that_it_names_is_told_stage_by_stage(page, run):
    page.goto(f"/contests/{run.name}")
    expect(page.get_by_role("heading", name="Shelf counter")).to_be_visible()
    sources = page.get_by_role("table", name="Recall of the candidates").locator("tbody tr")
    expect(sources).to_have_count(3)
    expect(sources.last).to_contain_text("all together")
    expect(page.get_by_text(re.compile("Fitted: als in .* by the run"))).to_be_visible()


def test_learning_curves_are_drawn(page, run):
    page.goto(f"/contests/{run.name}")
    for name in (
        "ndcg@10 on validation by share of the training cells",
        "ndcg@10 on validation by iteration",
        "als: loss by iteration",
    ):
        expect(page.get_by_role("img", name=f"Chart: {name}")).to_be_visible()


def test_the_contender_to_release_is_weighed_and_fitted(page, run, demo):
    page.goto(f"/contests/{run.name}?against=fit_seconds")
    expect(page.get_by_role("heading", name="ndcg@10 against time to fit, s, validation part")).to_be_visible()
    expect(page.get_by_text("is best on ndcg@10 of the validation part")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Fit .* on every row$")).click()
    expect(page.get_by_text("has learned from every row")).to_be_visible()
    way = page.get_by_role("link", name="Build a shelf with it")
    expect(way).to_have_attribute("href", re.compile(r"^/shelves/new\?model=shown\.\w+@\d+$"))
    # what comes of it is looked into where reports are tested
    everything = page.get_by_role("link", name="all of it")
    expect(everything).to_have_attribute("href", re.compile(r"/v1/contests/shown(@|%40)1/report\?form=zip$"))
    expect(everything).to_have_attribute("download", f"{run.name}.zip")


def test_metrics_are_compared_with_each_other(page, run):
    page.goto(f"/contests/{run.name}")
    table = page.get_by_role("table", name="Do the metrics agree")
    expect(table.locator("tbody tr")).to_have_count(4)
    expect(table.locator("tbody tr").first).to_contain_text("1.00")


def test_an_open_list_stays_open_when_its_field_leaves_the_window(page, run):
    page.goto(f"/contests/{run.name}")
    field = page.get_by_role("combobox", name="Run beside it", exact=True)
    field.click()
    option = page.get_by_role("option", name="first-look@1", exact=True)
    expect(option).to_be_visible()
    # content that loads above the field moves it like this
    page.get_by_role("main").evaluate("main => { main.style.paddingTop = '4000px'; scrollTo(0, 0); }")
    expect(field).not_to_be_in_viewport()
    option.click()
    expect(page).to_have_url(re.compile("beside=first-look"))


def test_two_runs_stand_side_by_side(page, run, demo):
    page.goto(f"/contests/{run.name}")
    choose(page, "Run beside it", "first-look@1")
    expect(page).to_have_url(re.compile("beside=first-look"))
    settings = page.get_by_role("table", name="Settings that differ")
    expect(settings).to_contain_text(re.compile("contenders.item_knn.*not set.*item_knn neighbours 100"))
    other = demo.client.send(calls.run("first-look"))
    knn = next(each for each in other.standings if each.contender == "item_knn").figure(run.decide_by).mean
    figures = page.get_by_role("table", name=f"{run.decide_by} of {run.name} and first-look@1")
    expect(figures.get_by_role("row", name=re.compile("^item_knn"))).to_contain_text(f"{knn:.4f}")
    if run.spec.split != other.spec.split or run.spec.prepare != other.spec.prepare:
        expect(page.get_by_role("alert").filter(has_text="not of the same test users")).to_be_visible()


def test_the_page_passes_the_accessibility_checks(tall_tab, run):
    page = tall_tab.page
    tall_tab.follow(f"/contests/{run.name}")
    expect(page.get_by_role("table", name="Do the metrics agree")).to_be_visible()
    assert violations(page) == []
