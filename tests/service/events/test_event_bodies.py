"""Events and changes as they are sent: CloudEvents, lines, batches; and what is wrong with some."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import pytest

ENVELOPE = {"specversion": "1.0", "id": "ce", "source": "/exchange", "type": "exchange.save"}
INNER = {"data": "seeds", "user": "ev-cloud", "item": "v-0010"}


def cloud(id: str, **more):
    return ENVELOPE | {"id": id, "data": INNER} | more


@pytest.mark.parametrize(
    ("headers", "body", "ids"),
    [
        ({"content-type": "application/cloudevents+json"}, cloud("ce-1", subject="any", more=1), ["ce-1"]),
        (
            {"content-type": "application/cloudevents-batch+json; charset=utf-8"},
            [cloud("ce-2"), cloud("ce-3", type="request", time="2026-11-01T00:00:00Z")],
            ["ce-2", "ce-3"],
        ),
        (
            {
                "content-type": "application/json", "ce-specversion": "1.0", "ce-id": "ce%204",
                "ce-source": "/exchange", "ce-type": "a.b.view",
            },
            INNER,
            ["ce 4"],
        ),
    ],
)  # fmt: skip
def test_cloud_events_come_in_all_their_modes(demo, headers, body, ids):
    sent = demo.http.post("/v1/events", headers=headers, content=json.dumps(body))
    assert sent.json() == {"data": "seeds", "taken": len(ids), "repeated": 0, "ids": [], "notes": []}
    rows = demo.sql("SELECT source, user_id, item_id, kind FROM events WHERE id = ANY(%s) ORDER BY id", ids)
    kinds = {"ce-1": "save", "ce-2": "save", "ce-3": "request", "ce 4": "view"}
    assert rows == [("/exchange", "ev-cloud", "v-0010", kinds[each]) for each in ids]


def test_lines_of_json_and_a_bare_list_are_taken(demo):
    lines = "\n".join(json.dumps(INNER | {"user": "ev-lines", "kind": "view"}) for _ in range(3)) + "\n\n"
    sent = demo.http.post("/v1/events", headers={"content-type": "application/x-ndjson"}, content=lines)
    assert (sent.json()["taken"], len(set(sent.json()["ids"]))) == (3, 3)
    sent = demo.http.post("/v1/events", json=[INNER | {"user": "ev-lines", "kind": "view", "id": "bare"}])
    assert sent.json() == {"data": "seeds", "taken": 1, "repeated": 0, "ids": [], "notes": []}


GOOD = {"user": "ev-bad", "item": "v-0010", "kind": "view"}
LATE = (datetime.now(UTC) + timedelta(hours=1)).isoformat()


@pytest.mark.parametrize(
    ("body", "media", "status", "field", "message"),
    [
        ({"data": "seeds", "events": [GOOD, GOOD | {"kind": "viewed"}]}, None, 422, "events.1.kind", "there is none called 'viewed'; the dataset has view, save, request, grown"),
        ({"data": "seeds", "events": [{"user": "ev-bad", "item": "v"}]}, None, 422, "events.0.kind", "it is missing"),
        ({"data": "seeds", "events": [GOOD | {"time": LATE}]}, None, 422, "events.0.time", "is in the future"),
        ({"data": "seeds", "events": [GOOD | {"time": "1999-01-01T00:00:00Z"}]}, None, 422, "events.0.time", "more than 400 days ago"),
        ({"data": "seeds", "events": [GOOD | {"time": "2026-01-01T00:00:00"}]}, None, 422, "events.0.time", "should have timezone info"),
        ({"data": "seeds", "events": [GOOD | {"user": ""}]}, None, 422, "events.0.user", "at least 1 character"),
        ({"data": "seeds", "events": [GOOD | {"item": "a\x00b"}]}, None, 422, "events.0.item", "NUL"),
        ({"data": "seeds", "events": [GOOD | {"usr": "x"}]}, None, 422, "events.0.usr", "there is no field 'usr' here; did you mean 'user'?"),
        ({"data": "seeds", "events": []}, None, 422, "events", "at least 1 item"),
        ({"data": "seeds", "events": [GOOD] * 5001}, None, 422, "events", "at most 5000 items"),
        ({"data": "nobody"} | GOOD, None, 404, "data", "there is no dataset 'nobody'"),
        (GOOD, None, 422, "events.0.data", "Field required"),
        ([GOOD | {"data": "seeds"}, GOOD | {"data": "other"}], None, 422, "data", "names seeds, other"),
        ("not json", None, 422, "body", "this is not JSON"),
        ("{}\n{", "application/x-ndjson", 422, "events.1", "this is not JSON"),
        (cloud("x", specversion="0.3"), "application/cloudevents+json", 422, "events.0.specversion", "version 1"),
        (cloud("x", data=[1]), "application/cloudevents+json", 422, "events.0.data", "mapping"),
        (cloud(""), "application/cloudevents+json", 422, "events.0.id", "a text 'id'"),
        (cloud("x"), "application/cloudevents-batch+json", 422, "body", "is a list"),
        ({}, "text/plain", 422, "Content-Type", "'text/plain' is not taken"),
    ],
)  # fmt: skip
def test_events_that_cannot_be_kept_are_named_and_none_is_kept(demo, body, media, status, field, message):
    content = body if isinstance(body, str) else json.dumps(body)
    sent = demo.http.post("/v1/events", headers={"content-type": media or "application/json"}, content=content)
    assert sent.status_code == status, sent.text
    [error] = [each for each in sent.json()["errors"] if each["field"] == field]
    assert message in error["message"]
    assert demo.sql("SELECT count(*) FROM events WHERE user_id = 'ev-bad'") == [(0,)]


def test_a_huge_body_is_refused(demo):
    sent = demo.http.post("/v1/events", json={"data": "seeds", "events": [GOOD | {"item": "x" * 5_000_000}]})
    assert sent.status_code == 413


@pytest.mark.parametrize(
    ("side", "change", "field", "message"),
    [
        ("items", {"id": "nobody", "columns": {"stock": 1}}, "id", "the table of items of seeds@1 has no 'nobody'"),
        (
            "items",
            {"id": "v-0010", "columns": {"stok": 1}},
            "columns.stok",
            "there is no such column; did you mean 'stock'?",
        ),
        ("items", {"id": "v-0010", "columns": {"stock": 1.5}}, "columns.stock", "1.5 is not a whole number"),
        ("items", {"id": "v-0010", "columns": {"stock": True}}, "columns.stock", "True is not a whole number"),
        ("items", {"id": "v-0010", "columns": {"surplus": "no"}}, "columns.surplus", "'no' is not a flag"),
        ("items", {"id": "v-0010", "columns": {"traits": "tall"}}, "columns.traits", "'tall' is not a list"),
        ("items", {"id": "v-0010", "columns": {"added_on": "soon"}}, "columns.added_on", "'soon' is not a date"),
        ("users", {"id": "g-0020", "columns": {"zone": 4}}, "columns.zone", "4 is not a text"),
    ],
)
def test_changes_that_do_not_fit_are_named_and_nothing_is_changed(demo, side, change, field, message):
    good = {"id": "v-0001", "columns": {"credits": 4444}} if side == "items" else {"id": "g-0001", "columns": {}}
    changes = [good, change] if side == "items" else [change]
    place = len(changes) - 1
    sent = demo.http.post(f"/v1/datasets/seeds/{side}/changes", json={"changes": changes})
    assert sent.status_code == 422
    [error] = sent.json()["errors"]
    assert error["field"] == f"changes.{place}.{field}"
    assert message in error["message"]
    assert demo.sql("SELECT count(*) FROM column_changes WHERE value::text = '4444'") == [(0,)]
