"""Lists scored and analysed, on the contest page, in Chromium."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import expect

from console.accessibility import violations
from console.conftest import choose
from gleaner.client import data_calls, list_calls
from gleaner.core.metrics.surprise import DEFINITIONS
from gleaner.wire.lists import ScoreListsRequest

FILE = """\
contest: looked-at
data: seeds@1
prepare: {kinds: {save: 3, request: 5}, min_user: 5, min_item: 5}
rank: {at: [5, 10], metrics: [ndcg, recall], decide_by: ndcg@10}
contenders: [popular, item_linear]
"""
THEIRS = "user,item,place\ng-0001,v-0010,1\ng-0001,v-0010,2\ng-0002,no-such,1\nnobody,v-0010,1\n"


@pytest.fixture(scope="module")
def run(demo):
    return demo.run_contest(FILE)


@pytest.fixture(scope="module")
def scored(demo, run, tmp_path_factory) -> int:
    path = tmp_path_factory.mktemp("theirs") / "theirs.csv"
    path.write_text(THEIRS)
    upload = demo.client.send(data_calls.upload(path)).upload
    request = ScoreListsRequest(upload=upload, file=path.name, label="theirs", beside=run.name)
    return demo.client.wait(demo.client.send(list_calls.score_lists(request)).id).id


def test_lists_made_elsewhere_stand_beside_the_contenders(page, demo, run, scored):
    page.goto(f"/contests/{run.name}")
    listed = page.get_by_role("table", name="Lists scored and analysed")
    listed.locator("tbody tr", has_text="scores").get_by_role("button", name="theirs").click()
    expect(page).to_have_url(re.compile(f"lists={scored}"))
    figures = page.get_by_role("table", name="Scores of theirs")
    scores = demo.client.send(list_calls.list_scores(scored))
    row = figures.locator("tbody tr", has_text="ndcg@10")
    linear = next(each for each in scores.contenders if each.contender == "item_linear")
    for shown in (scores.figures, linear.figures):
        mean = next(each.mean for each in shown if each.metric == "ndcg@10")
        expect(row).to_contain_text(f"{mean:.4f}")
    for line in scores.findings.said:
        expect(page.get_by_text(line)).to_be_visible()


def test_the_lists_of_a_model_are_analysed_and_drawn(page, demo, run, scored):
    page.goto(f"/contests/{run.name}")
    choose(page, "Model whose lists are analysed", "looked-at.item_linear@1")
    page.get_by_role("button", name="How lists are analysed").click()
    choose(page, "Kernel of the index", "cosine")
    page.get_by_label("Places of each list").fill("5")
    page.get_by_role("button", name="Analyse its lists").click()
    expect(page).to_have_url(re.compile(r"lists=\d+"))
    summary = page.get_by_role("table", name="Unexpectedness of looked-at.item_linear@1")
    expect(summary.locator("tbody tr")).to_have_count(len(DEFINITIONS))
    job = int(re.search(r"lists=(\d+)", page.url)[1])
    analysis = demo.client.send(list_calls.list_analysis(job))
    assert analysis.beside == run.name
    first = summary.locator("tbody tr").first
    expect(first).to_contain_text(f"{analysis.definitions[0].normal.mean:.3f}")
    expect(first).to_contain_text(analysis.definitions[0].source)
    expect(page.get_by_role("img", name="Chart: Unexpectedness at each place")).to_be_visible()
    page.get_by_role("radiogroup", name="Cut by").get_by_text("popularity").click()
    expect(page).to_have_url(re.compile("cut=popularity"))
    chart = page.get_by_role("img", name="Chart: Unexpectedness by popularity of the item")
    chart.scroll_into_view_if_needed()
    expect(chart.locator("svg.recharts-surface")).to_be_visible()
    expect(page.get_by_text("vargas_popularity -1.00")).to_be_visible()
    agreement = page.get_by_role("table", name="Do the definitions agree")
    page.get_by_role("radiogroup", name="Correlation").get_by_text("Kendall").click()
    expect(agreement.locator("tbody tr").first).to_contain_text(f"{analysis.kendall[0][1]:.2f}")
    indexes = page.get_by_role("table", name="One index for all of them")
    expect(indexes.get_by_role("columnheader", name="kernel PCA (cosine)")).to_be_visible()
    page.wait_for_load_state("networkidle")
    assert violations(page) == []


def test_what_was_never_made_says_how_it_is(page, demo):
    page.goto("/contests/first-look")
    expect(page.get_by_role("heading", name="Lists scored and analysed on seeds@1")).to_be_visible()
    page.goto("/contests/first-look?lists=999999")
    expect(page.get_by_role("heading", name="Lists scored and analysed on seeds@1")).to_be_visible()
    expect(page.get_by_role("table", name=re.compile("^Unexpectedness of"))).to_have_count(0)
