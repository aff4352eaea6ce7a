"""The Models page in Chromium: what a model is asked, how it was trained, why it answers so."""

from __future__ import annotations

import re
from collections import Counter

import polars as pl
import pytest
from playwright.sync_api import Page, expect

from console.conftest import choose
from gleaner.client import calls
from gleaner.wire.models.lists import AudienceRequest, ListsRequest
from gleaner.wire.models.training import TrainRequest
from gleaner.wire.models.values import Pair

RATINGS = {"kinds": {"grown": 1}, "use": "values", "merge": "mean"}


@pytest.fixture(scope="module")
def rated(demo) -> str:
    request = TrainRequest(data="seeds@1", family="user_knn_values", name="page.ratings", prepare=RATINGS)
    job = demo.client.wait(demo.client.send(calls.train_model(request)).id)
    return job.result["model"]


def rows(page: Page, label: str) -> list[list[str]]:
    table = page.get_by_role("table", name=label, exact=True)
    expect(table.locator("tbody tr").first).to_be_visible()
    return [text.split("\t") for text in table.locator("tbody tr").all_inner_texts()]


def test_items_for_a_user_are_what_the_api_says(page, demo):
    page.goto("/models/first-look.als@1?view=recommend&user=g-0417")
    expected = demo.client.send(calls.model_recommend("first-look.als@1", "g-0417", 20))
    assert [row[1] for row in rows(page, "Items for a user")][:15] == [place.item for place in expected.list][:15]
    page.get_by_label("Condition").fill("family = 'pea'")
    page.get_by_label("Condition").press("Enter")
    expect(page.get_by_text(re.compile("The condition holds for"))).to_be_visible()
    expect(page).to_have_url(re.compile("where=family"))
    assert {row[4] for row in rows(page, "Items for a user")} == {"pea"}


def test_similar_and_audience_stand_in_their_order(page, demo):
    page.goto("/models/first-look.als@1?view=similar&id=v-0007")
    expected = demo.client.send(calls.similar("first-look.als@1", "item", "v-0007", 20))
    assert [row[1] for row in rows(page, "Most alike")][:10] == [each.id for each in expected.list][:10]
    expect(page.get_by_text("Likeness: cosine of item factors.")).to_be_visible()
    page.goto("/models/first-look.als@1?view=audience&item=v-0007")
    audience = demo.client.send(calls.audience("first-look.als@1", "v-0007", 20))
    assert [row[1] for row in rows(page, "Users for an item")][:10] == [each.user for each in audience.users][:10]


def test_someone_new_is_listed_for_from_what_they_touched(page, demo):
    name = demo.client.send(calls.find_items("seeds", 1, "v-0007"))[0].label
    page.goto("/models/first-look.als@1?view=recommend")
    page.get_by_text("someone new").click()
    expect(page.get_by_text("Name an item at least that they have touched.")).to_be_visible()
    touched = page.get_by_role("combobox", name="Items they have touched, by id or name")
    touched.fill(name)
    expect(page.get_by_role("option", name=name)).to_be_visible()
    touched.press("Enter")
    expect(page).to_have_url(re.compile("touched=v-0007"))
    touched.fill("v-0012")
    expect(page.get_by_role("option", name="v-0012")).to_be_visible()
    touched.press("Enter")
    expect(page).to_have_url(re.compile("touched=v-0007&touched=v-0012"))
    request = ListsRequest(items=["v-0007", "v-0012"], n=20)
    places = [place.item for place in demo.client.send(calls.model_lists("first-look.als@1", request)).lists[0].list]
    expect(page.get_by_role("table", name="Items for a user")).to_contain_text(places[0])
    assert [row[1] for row in rows(page, "Items for a user")][:15] == places[:15]
    # what they made of each changes the list
    page.get_by_label(f"Value of {name}").fill("5")
    expect(page.get_by_text("Values count once each has one; until then all count as usual.")).to_be_visible()
    second = demo.client.send(calls.find_items("seeds", 1, "v-0012"))[0].label
    page.get_by_label(f"Value of {second}").fill("0.1")
    request = ListsRequest(items=["v-0007", "v-0012"], values=[5, 0.1], n=20)
    valued = [place.item for place in demo.client.send(calls.model_lists("first-look.als@1", request)).lists[0].list]
    assert valued[:15] != places[:15]
    table = page.get_by_role("table", name="Items for a user").locator("tbody tr")
    for place, item in enumerate(valued[:10]):
        expect(table.nth(place)).to_contain_text(item)
    # a few chosen items, put in order for one whom it knows
    page.goto(f"/models/first-look.als@1?view=recommend&user=g-0417&only={places[9]}&only={places[2]}&known=yes")
    request = ListsRequest(users=["g-0417"], candidates=[places[9], places[2]], n=20, include_known=True)
    expected = demo.client.send(calls.model_lists("first-look.als@1", request)).lists[0].list
    expect(page.get_by_role("table", name="Items for a user").locator("tbody tr")).to_have_count(2)
    assert [row[1] for row in rows(page, "Items for a user")] == [place.item for place in expected]


def test_a_new_item_finds_users_from_who_touched_it(page, demo):
    page.goto("/models/first-look.als@1?view=audience&what=new&by=g-0417&by=g-0033")
    request = AudienceRequest(users=["g-0417", "g-0033"], n=20)
    [expected] = demo.client.send(calls.audiences("first-look.als@1", request))
    expect(page.get_by_role("table", name="Users for an item")).to_contain_text(expected.users[0].user)
    assert [row[1] for row in rows(page, "Users for an item")][:10] == [each.user for each in expected.users][:10]


def test_what_is_like_every_item_is_made_as_a_file(page, demo):
    page.goto("/models/first-look.als@1?view=similar&id=v-0007")
    page.get_by_label("Of each item at most").fill("2")
    page.get_by_role("button", name="Every item, as a file").click()
    with page.expect_download() as download:
        page.get_by_role("link", name="Fetch it").click()
    lists = pl.read_parquet(download.value.path())
    mine = lists.filter(pl.col("item") == "v-0007")
    expected = demo.client.send(calls.similar("first-look.als@1", "item", "v-0007", 2)).list
    assert set(lists["item"].value_counts()["count"]) == {2}
    assert mine.sort("position")["like"].to_list() == [each.id for each in expected]
    [job] = demo.client.send(calls.list_jobs(kind="lists", limit=1)).items
    page.goto(f"/jobs/{job.id}")
    expect(page.get_by_role("link", name="Fetch its file")).to_have_attribute("href", f"/v1/jobs/{job.id}/file")


def test_a_likeness_is_worked_by_hand(page, demo):
    page.goto("/models/first-look.item_knn@1?view=similar&id=v-0007")
    page.get_by_role("button", name="Work by hand").first.click()
    nearest = demo.client.send(calls.similar("first-look.item_knn@1", "item", "v-0007", 1)).list[0].id
    expect(page).to_have_url(re.compile(f"with={nearest}"))
    worked = demo.client.send(calls.likeness("first-look.item_knn@1", "item", "v-0007", nearest))
    steps = rows(page, "Steps of the likeness")
    assert [row[:2] for row in steps] == [[each.what, each.worked] for each in worked.steps]
    # shown with six digits
    assert float(steps[-1][2]) == pytest.approx(worked.result, rel=1e-5)
    assert len(rows(page, "What both have, by user")) == min(10, worked.entries_in_all)
    page.get_by_role("button", name="Close").click()
    expect(page.get_by_text("Likeness worked by hand")).to_have_count(0)


def test_an_explanation_is_a_sum_to_check(page, rated):
    page.goto(f"/models/{rated}?view=explain&user=g-1068&item=v-0201")
    actual = rows(page, "Terms")
    [text] = page.get_by_text(re.compile(r"\(the mean\)")).all_inner_texts()
    start, adds, result = (float(each) for each in re.findall(r"-?\d+\.\d{4}", text)[:3])
    # terms are shown with four places: half of the last for each of a few
    assert sum(float(row[-1]) for row in actual) == pytest.approx(adds, abs=3e-4)
    # the same, of two
    assert start + adds == pytest.approx(result, abs=2e-4)


def test_values_factors_and_training_are_shown(page, demo, rated):
    page.goto(f"/models/{rated}?view=rate&user=g-0417&item=v-0325")
    [one] = demo.client.send(calls.rate(rated, [Pair(user="g-0417", item="v-0325")])).ratings
    expect(page.get_by_text(f"{one.value:.2f}", exact=True).first).to_be_visible()
    assert len(rows(page, "Observed against predicted")) == 10
    page.goto("/models/first-look.als@1?view=factors")
    shares = [float(row[1].rstrip(" %")) for row in rows(page, "Factors")]
    assert shares == sorted(shares, reverse=True)
    assert re.match(r"\s*users who have it: median \d+ here, \d+ of all", rows(page, "Factors")[0][2])
    expect(page.get_by_role("img", name=re.compile("two leading factors"))).to_be_visible()
    expect(page.get_by_text("400 of 826 items, those that most users have.")).to_be_visible()
    point = demo.client.send(calls.factors("first-look.als@1", 4)).map[3]
    page.get_by_role("combobox", name="Find an item on the map").fill(point.name)
    page.get_by_role("option", name=f"{point.name} ({point.item})").click()
    # found from afar it is looked at from closer, and fewer are in sight
    expect(page).to_have_url(re.compile(f"at={point.item}&closer=2"))
    expect(page.get_by_text(re.compile(r"^\d{1,2} of 826 items\."))).to_be_visible()
    page.get_by_role("button", name="All", exact=True).click()
    expect(page.get_by_text("400 of 826 items")).to_be_visible()
    page.goto("/models/first-look.als@1?view=training")
    expect(page.get_by_role("img", name=re.compile("training loss by iteration"))).to_be_visible()
    page.get_by_role("button", name="Table").click()
    losses = [float(row[1]) for row in rows(page, "training loss by iteration")]
    assert losses == sorted(losses, reverse=True)


def test_a_network_its_curves_and_its_map_are_drawn(page, demo):
    params = {"rank": 8, "iterations": 4, "layers": [16]}
    request = TrainRequest(data="seeds@1", family="variational_autoencoder", name="page.network", params=params)
    job = demo.client.wait(demo.client.send(calls.train_model(request)).id)
    model = job.result["model"]
    page.goto(f"/jobs/{job.id}")
    expect(page.get_by_role("heading", name="variational_autoencoder, fitted for everything")).to_be_visible()
    expect(page.get_by_role("img", name=re.compile("training loss by iteration"))).to_be_visible()
    page.goto(f"/models/{model}?view=training")
    expect(page.get_by_role("img", name=re.compile("The network"))).to_contain_text("the user")
    page.get_by_role("button", name="Table").last.click()
    parts = rows(page, "The network")
    assert [row[:2] for row in parts] == [["user", "history"], ["user", "layer 1"], ["item", "item"], ["both", "score"]]
    page.goto(f"/models/{model}?view=factors")
    choose(page, "Colour the map by", "family")
    expect(page).to_have_url(re.compile("colour=family"))
    report = demo.client.send(calls.factors(model, 4, "family"))
    families = Counter(point.value for point in report.map[:400])
    legend = page.get_by_role("list", name="Colours and marks").get_by_role("listitem")
    expect(legend).to_have_count(6)
    named = dict(re.fullmatch(r"(.*) \((\d+)\)", text).groups() for text in legend.all_inner_texts())
    others = int(named.pop("others"))
    assert {name: int(number) for name, number in named.items()} == {name: families[name] for name in named}
    assert sorted(map(int, named.values())) == sorted(families.values())[-5:]
    assert others == 400 - sum(map(int, named.values()))
    marks = page.get_by_role("list", name="Colours and marks").locator("path")
    assert len({mark.get_attribute("d") for mark in marks.all()}) == 6


def test_an_unknown_user_is_answered_in_words(failing_page):
    page = failing_page
    page.goto("/models/first-look.als@1?view=recommend&user=nobody")
    expect(page.get_by_role("alert")).to_contain_text("user 'nobody' is not in the training data")
