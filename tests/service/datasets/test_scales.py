"""A declared scale binds: what lies outside is refused, dropped or clipped as declared, told, and known to later
versions; models stay on it."""

from __future__ import annotations

import polars as pl
import pytest

from commands import call
from gleaner.client import JobFailedError, RefusedError, calls, event_calls, model_calls
from gleaner.wire.imports import ImportRequest, Roles
from gleaner.wire.models.training import TrainRequest
from gleaner.wire.models.values import Pair
from stack import Stack

ROLES = Roles(user="user", item="item", value="value")
LINES = [f"u{n % 30},i{n * 7 % 20},{(1, 5, 10)[n % 3]}" for n in range(300)]
ROWS = "user,item,value\n" + "\n".join([*LINES[:150], "u1,i1,11", *LINES[150:], "u2,i2,0.5"]) + "\n"


def bring(stack: Stack, name: str, text: str = ROWS, **how):
    request = ImportRequest(interactions=stack.send_text(text, "rows.csv"), roles=ROLES, **how)
    job = stack.client.wait(stack.client.send(calls.import_version(name, request)).id)
    dataset, number = job.result["version"].split("@")
    return stack.client.send(calls.dataset_version(dataset, int(number)))


def values(stack: Stack, version) -> pl.Series:
    sql = "SELECT min(value), max(value), count(*) FROM interactions"
    return stack.client.send(calls.query(version.dataset, version.number, sql)).rows[0]


def scale_findings(version) -> list[str]:
    return [each.text for each in version.report.findings if each.code == "scale"]


def test_what_lies_outside_is_handled_as_declared(stack):
    with pytest.raises(
        JobFailedError, match=r"rows.csv row 152: value is 11, outside the declared scale 1 to 10; mend"
    ):
        bring(stack, "scaled", scale=(1, 10))
    dropped = bring(stack, "scaled", scale=(1, 10), outside="drop")
    assert (values(stack, dropped), dropped.scale) == ([1, 10, 300], (1, 10))
    assert dropped.report.files[0].dropped[0].examples == ["row 152: 11", "row 303: 0.5"]
    assert scale_findings(dropped) == ["2 values outside the declared scale 1 to 10, whose rows were dropped"]
    assert values(stack, bring(stack, "scaled", scale=(1, 10), strictness="lenient")) == [1, 10, 300]
    clipped = bring(stack, "scaled", scale=(1, 10), outside="clip")
    assert values(stack, clipped) == [1, 10, 302]
    assert scale_findings(clipped) == ["2 values outside the declared scale 1 to 10, brought to its nearest end"]
    with pytest.raises(JobFailedError, match="strictness is strict, and there is something to warn of"):
        bring(stack, "scaled", scale=(1, 10), outside="clip", strictness="strict")


def test_a_later_version_is_on_the_same_scale_and_knows_what_was_done(stack):
    first = bring(stack, "scaled-on", scale=(1, 10), outside="clip")
    with pytest.raises(JobFailedError, match=r"row 2: value is 12, outside the declared scale 1 to 10"):
        bring(stack, "scaled-on", "user,item,value\nu1,i9,12\n", onto=first.number)
    later = bring(stack, "scaled-on", "user,item,value\nu1,i9,9\n", onto=first.number)
    assert later.scale == (1, 10)
    text = "of scaled-on@1: 2 values outside the declared scale 1 to 10, brought to its nearest end"
    assert scale_findings(later) == [text]
    third = bring(stack, "scaled-on", "user,item,value\nu1,i8,9\n", onto=later.number)
    assert scale_findings(third) == [text]
    with pytest.raises(JobFailedError, match=r"scaled-on@1 has \d+ values outside the scale 1 to 5; import it anew"):
        bring(stack, "scaled-on", "user,item,value\nu1,i9,4\n", onto=1, scale=(1, 5))
    with pytest.raises(RefusedError, match="11 lies outside the dataset's scale, 1 to 10; none was kept"):
        stack.client.send(event_calls.send_event("scaled-on", "u1", "i3", None, value=11))


def test_a_model_stays_on_the_declared_scale_whatever_the_rows_hold(stack):
    version = bring(stack, "scaled-old", scale=(0, 20))
    # as a version from before the scale bound its rows
    stack.sql("UPDATE versions SET scale = '[1, 10]' WHERE content_hash = %s", version.content_hash)
    for family in ("als_values", "mean_value", "item_knn_values"):
        request = TrainRequest(data="scaled-old@1", family=family, params={"rank": 4} if family == "als_values" else {})
        job = stack.client.wait(stack.client.send(model_calls.train_model(request)).id)
        model = job.result["model"]
        assert stack.client.send(model_calls.model(model)).scale == (1, 10)
        pairs = [Pair(user=f"u{n}", item=f"i{m}") for n in range(30) for m in range(20)]
        answer = stack.client.send(model_calls.rate(model, pairs))
        assert answer.scale == (1, 10)
        assert 1 <= min(each.value for each in answer.ratings) <= max(each.value for each in answer.ratings) <= 10


ITEMS = "sku,title\n" + "".join(f"i{n},Item {n}\n" for n in range(20))
PEOPLE = "cust_no,zone\n" + "".join(f"u{n},Z{n % 3}\n" for n in range(30))


@pytest.fixture
def files(tmp_path):
    for name, text in (("rows.csv", ROWS), ("items.csv", ITEMS), ("people.csv", PEOPLE)):
        (tmp_path / name).write_text(text)
    return tmp_path


def add(stack: Stack, files, *more: str) -> tuple[int, str, str]:
    places = ["--items", str(files / "items.csv"), "--users", str(files / "people.csv")]
    return call("data", "add", "own-ids", str(files / "rows.csv"), *places, *more, GLEANER_URL=stack.url)


def test_the_id_column_of_a_table_has_any_name(stack, files):
    roles = ["--user", "user", "--item", "item", "--value", "value"]
    code, _, err = add(stack, files, *roles)
    assert code == 3
    assert "items.csv: which column is the item's id? There is none called 'item' or 'id'" in err
    assert "'sku' holds ids of the interactions: --items-id sku; its columns are: sku, title" in err
    code, out, err = add(stack, files, *roles, "--items-id", "sku", "--users-id", "cust_no")
    assert (code, "title (text)" in out, "zone (category)" in out) == (0, True, True), err
    # what is proposed is what is imported
    code, out, err = add(stack, files, "--yes")
    assert (code, "title (text)" in out, "zone (category)" in out) == (0, True, True), err
    code, _, err = call("data", "add", "own-ids", str(files / "rows.csv"), "--items-id", "sku", GLEANER_URL=stack.url)
    assert (code, "--items-id goes with --items" in err) == (2, True)
