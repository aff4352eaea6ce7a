"""Conditions of shelves and requests on who asks: what is listed is what plain Python over the demo's tables allows."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import polars as pl
import pytest

import gleaner.demo
from commands import call
from gleaner.client import RefusedError, model_calls, shelf_calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.imports import Roles
from gleaner.wire.models.training import TrainRequest

FILE = """\
shelf: {name}
candidates: [{{model: first-look.als}}]
leave_out: [recent]
where: {where}
fallback: [{{model: first-look.popular}}]
show: [zone_from, credits, stock, added_on]
"""
USER = "g-0417"
DATA = Path(gleaner.demo.__file__).parent / "data"


def table(name: str) -> pl.DataFrame:
    return pl.read_csv(DATA / name, try_parse_dates=True)


def ask(demo, where: str | None, user: str | None = USER, n: int = 1000, shelf: str = "for-growers", **context):
    return demo.client.send(shelf_calls.recommend(shelf, user=user, n=n, where=where, context=context))


def publish(demo, name: str, where: str):
    return demo.client.send(shelf_calls.publish_shelf(FileRequest(file=FILE.format(name=name, where=where))))


def test_a_shelf_compares_items_with_the_user(demo):
    zone = "Z2"
    user = table("growers.csv.gz").filter(pl.col("zone") == zone)["grower"][3]
    publish(demo, "my-zone", '"stock > 0 AND (zone_from <= :user.zone OR :user.zone IS NULL)"')
    answer = ask(demo, None, user, shelf="my-zone")
    all_of = (
        table("varieties.csv.gz").filter((pl.col("stock") > 0) & (pl.col("zone_from") <= zone))["variety"].to_list()
    )
    listed = {place.item for place in answer.list}
    everything = {place.item for place in ask(demo, None, shelf="my-zone", user=None).list}
    assert listed == set(all_of) & everything
    assert len(listed) < len(everything)
    assert {place.columns["zone_from"] for place in answer.list} == {"Z1", "Z2"}


def test_a_history_is_left_out_by_kind_and_by_time(demo):
    rows = table("interactions.csv.gz").filter(pl.col("grower") == USER)
    publish(demo, "everything-there", "stock >= 0\nrequests: {history: true}")
    everything = {place.item for place in ask(demo, None, shelf="everything-there").list}
    requested = set(rows.filter(pl.col("kind") == "request")["variety"])
    assert requested & everything
    answer = ask(demo, "item NOT IN history('request')", shelf="everything-there")
    assert {place.item for place in answer.list} == everything - requested
    days = (datetime.now(UTC) - rows["at"].dt.replace_time_zone("UTC").sort()[rows.height // 2]).days
    since = datetime.now(UTC).replace(second=0, microsecond=0) - timedelta(days=days)
    late = set(rows.filter(pl.col("at").dt.replace_time_zone("UTC") >= since)["variety"])
    assert late & everything != set(rows["variety"]) & everything
    answer = ask(demo, f"item NOT IN history(INTERVAL '{days}' DAY)", shelf="everything-there")
    assert {place.item for place in answer.list} == everything - late


def test_a_request_brings_values_and_a_condition_of_its_own(demo):
    answer = ask(demo, "credits <= :context.most AND added_on > :context.since", most=2, since="2024-06-01", n=5)
    assert answer.list
    for place in answer.list:
        row = table("varieties.csv.gz").filter(pl.col("variety") == place.item).row(0, named=True)
        assert row["credits"] <= 2
        assert str(row["added_on"]) > "2024-06-01"
    assert answer.left_out["where"] > 0
    none = ask(demo, "credits <= :context.most", n=5)
    assert (none.list, none.note) == ([], "5 were asked for, 0 are left to recommend")


@pytest.mark.parametrize(
    ("where", "context", "message"),
    [
        (
            "credits <= :user.age",
            {},
            "there is no user column 'age'; there are: zone, plot, experience_years, interests",
        ),
        ("item IN history('bought')", {}, "there is no kind 'bought' of interactions; there are: "),
        ("credits <= :context.most", {"most": "two"}, "context 'most' must be a number, not 'two'"),
        ("credits <=", {}, "character 11: expected a column or a literal, found the end"),
    ],
)
def test_what_does_not_fit_is_refused(demo, where, context, message):
    with pytest.raises(RefusedError, match=message):
        ask(demo, where, **context)


def test_a_condition_over_items_without_a_table_is_refused(demo):
    demo.add(
        "untabled", "user,item\n" + "".join(f"u{n % 6},i{n % 5}\n" for n in range(60)), Roles(user="user", item="item")
    )
    request = TrainRequest(data="untabled", family="popular", name="untabled.popular")
    demo.client.wait(demo.client.send(model_calls.train_model(request)).id)
    file = "shelf: untabled\ncandidates: [{model: untabled.popular}]\nfallback: [{model: untabled.popular}]\n"
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))
    with pytest.raises(RefusedError, match="a condition needs columns, and the dataset has no table of items"):
        ask(demo, "stock > 0", None, shelf="untabled")


def test_a_broken_condition_never_replaces_a_good_one(demo):
    version = publish(demo, "kept", "stock > 0")
    for where in ("stock > :user.age", "stock > 1000000", "sold > 0"):
        with pytest.raises(RefusedError):
            publish(demo, "kept", where)
    assert demo.client.send(shelf_calls.shelf("kept")).name == version.name


def test_the_command_tries_them(demo):
    where = "credits <= :context.most"
    code, out, _ = call(
        "shelf", "try", "for-growers", "--user", USER, "--where", where, "--context", "most=2", GLEANER_URL=demo.url
    )
    assert code == 0
    assert "by the condition" in out
    code, _, err = call("shelf", "try", "for-growers", "--context", "most", GLEANER_URL=demo.url)
    assert (code, "--context takes NAME=VALUE, not 'most'" in err) == (2, True)


@pytest.mark.parametrize(
    ("where", "message"),
    [
        (" OR ".join(["surplus"] * 201), "more than 200 columns and values; write IN"),
        (" OR ".join(["stock > 1"] * 101), "more than 200 columns and values; write IN"),
        ("name LIKE '" + "_%" * 11 + "'", "a pattern has more than 20 wildcards"),
        (" OR ".join(["item IN history()"] * 11), "tests the history more than 10 times"),
        ("(" * 70 + "surplus" + ")" * 70, "nested more than 60 deep"),
        ("+".join(["stock"] * 51) + " > 1", "a sum has more than 50 terms"),
        ("stock > 1" + " " * 4000, "at most 4000 characters"),
    ],
)
def test_a_condition_is_bounded(demo, where, message):
    with pytest.raises(RefusedError, match=message):
        ask(demo, where, n=3)


def test_a_long_list_of_literals_is_one_test(demo):
    stocked = "stock IN (" + ",".join(str(n) for n in range(1, 1000)) + ")"
    assert len(stocked) > 3800
    answer = ask(demo, stocked)
    assert {place.item for place in answer.list} == {
        place.item for place in ask(demo, "stock > 0 AND stock < 1000").list
    }


def test_a_request_names_of_the_person_what_the_shelfs_file_allows(demo):
    publish(demo, "plain", "stock > 0")
    publish(demo, "open", "stock > 0\nrequests: {user_columns: [zone]}")
    for shelf, where, message in (
        ("plain", "zone_from = :user.zone", "may not name the user column 'zone' here; those it may, .*: none"),
        ("plain", "item IN history('view')", "may not test the history here"),
        ("open", "credits <= :user.experience_years", "may not name the user column 'experience_years' here; .*: zone"),
        ("open", "stock > 0 OR item IN history()", "may not test the history here"),
    ):
        with pytest.raises(RefusedError, match=message):
            ask(demo, where, shelf=shelf)
    user = table("growers.csv.gz").filter(pl.col("zone") == "Z2")["grower"][3]
    mine = ask(demo, "zone_from = :user.zone", user, shelf="open")
    assert {place.columns["zone_from"] for place in mine.list} == {"Z2"}
    with pytest.raises(RefusedError, match="there is no user column 'age'; there are: zone, plot"):
        publish(demo, "open", "stock > 0\nrequests: {user_columns: [age]}")
    checked = demo.client.send(
        shelf_calls.check_shelf(
            FileRequest(file=FILE.format(name="open", where="stock > 0\nrequests: {user_columns: [age]}"))
        )
    )
    [problem] = checked.problems
    assert (problem.field, problem.line) == ("requests.user_columns", 5)
