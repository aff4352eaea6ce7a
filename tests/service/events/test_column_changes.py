"""Column changes: what cannot be stored is never kept, and what was kept by mistake stops nothing."""

from __future__ import annotations

import pytest

from gleaner.client import ClientError, calls, event_calls, shelf_calls
from gleaner.core.errors import ConflictError
from gleaner.jobs.models.model_cache import ModelCache
from gleaner.service.events.live import LiveEvents
from gleaner.service.shelves.shelf_keeper import ShelfKeeper
from gleaner.store import datasets, live_columns
from gleaner.store.database.engine import make_engine
from gleaner.store.files.artefacts import ArtefactStore
from gleaner.store.files.pins import Pins
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.events import Change
from stack import wait_for

SHELF = """\
shelf: changing
candidates: [{model: first-look.als}]
fallback: [{model: first-look.popular}]
show: [stock, name, added_on, traits]
"""


@pytest.fixture(scope="module")
def shelf(demo) -> str:
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=SHELF)))
    return "changing"


def send(demo, columns: dict, item: str = "v-0007"):
    return demo.http.post("/v1/datasets/seeds/items/changes", json={"changes": [{"id": item, "columns": columns}]})


def shown(demo, shelf: str, item: str = "v-0007") -> dict:
    body = {"candidates": [item], "n": 1}
    return demo.http.post(f"/v1/shelves/{shelf}/recommendations", json=body).json()["list"][0]["columns"]


@pytest.mark.parametrize(
    ("columns", "expected"),
    [
        ({"stock": 5.0}, {"stock": 5}),
        ({"stock": 7}, {"stock": 7}),
        ({"added_on": "2026-02-03"}, {"added_on": "2026-02-03"}),
        ({"traits": ["tall", "early"]}, {"traits": ["tall", "early"]}),
        ({"name": None}, {"name": None}),
        ({"name": "Bl\u00e5 \U0001f331"}, {"name": "Bl\u00e5 \U0001f331"}),
    ],
)
def test_a_value_as_json_writers_send_it_is_shown_at_once(demo, shelf, columns, expected):
    answer = send(demo, columns)
    assert answer.status_code == 200, answer.text
    assert {name: shown(demo, shelf)[name] for name in expected} == expected


@pytest.mark.parametrize(
    ("body", "says"),
    [
        ('{"name": "\\ud800"}', "contains half of a surrogate pair"),
        ('{"name": "a\\u0000b"}', "contains the character NUL"),
        ('{"stock": 5.5}', "5.5 is not a whole number"),
        ('{"stock": 1e30}', "1e+30 is not a whole number"),
        ('{"stock": 99999999999999999999}', "does not fit a column of whole numbers"),
        ('{"stock": NaN}', None),
        ('{"added_on": "2026-02-30"}', "is not a date"),
        ('{"added_on": "20260203T10"}', "is not a date"),
        ('{"name": "%s"}' % ("x" * 9000), "a cell has at most 8,192"),
        ('{{"traits": ["{}", "{}"]}}'.format("x" * 5000, "y" * 5000), "a cell has at most 8,192"),
        ('{"id": "v-9999"}', "there is no such column"),
    ],
)  # fmt: skip
def test_a_value_that_cannot_be_stored_is_refused_and_not_kept(demo, shelf, body, says):
    before = demo.sql("SELECT count(*), max(seq) FROM column_changes")
    text = f'{{"changes": [{{"id": "v-0009", "columns": {body}}}]}}'
    answer = demo.http.post(
        "/v1/datasets/seeds/items/changes", content=text, headers={"content-type": "application/json"}
    )
    assert answer.status_code == 422, answer.text
    assert says is None or says in answer.json()["detail"]
    assert demo.sql("SELECT count(*), max(seq) FROM column_changes") == before


def test_stored_cells_that_do_not_fit_are_skipped_and_reported(stack):
    """As an earlier release kept them: lists go on after a restart, and the next version says what was skipped."""
    rows = "user,item,kind,time,value\n" + "".join(
        f"u{n % 9},i{n % 7},view,2026-01-{1 + n % 28:02d}T00:00:00Z,3\n" for n in range(60)
    )
    stack.add("misfits", rows, items="item,stock,name\n" + "".join(f"i{n},{n},n{n}\n" for n in range(7)))
    run = stack.run_contest(
        "contest: misfits\ndata: misfits@1\nrank: {at: [3], metrics: [ndcg], decide_by: ndcg@3}\ncontenders: [popular]\n"
    )
    model = run.standings[0].model
    file = f"shelf: misfits\ncandidates: [{{model: {model}}}]\nfallback: [{{model: {model}}}]\nshow: [stock]\n"
    stack.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))
    stack.client.send(event_calls.change_items("misfits", [Change(id="i1", columns={"stock": 11})]))
    stack.sql(
        "INSERT INTO column_changes (dataset_id, side, row_id, name, value) SELECT id, 'item', 'i2', c.name, c.value::json "
        "FROM datasets, (VALUES ('stock', '\"many\"'), ('name', '\"\\ud800\"')) c(name, value) "
        "WHERE datasets.name = 'misfits'"
    )
    stack.kill("web service")
    answer = wait_for(lambda: listed(stack), 60)
    assert {place.item: place.columns["stock"] for place in answer.list} == {
        f"i{n}": n if n != 1 else 11 for n in range(7)
    }
    job = stack.client.wait(stack.client.send(event_calls.gather_events("misfits")).id)
    report = stack.client.send(calls.dataset_version("misfits", 2)).report
    assert job.result["version"] == "misfits@2"
    [skipped] = [finding.text for finding in report.findings if "were skipped" in finding.text]
    assert "2 changed cells of the item table do not fit their columns" in skipped
    assert "'stock' of 'i2': 'many' is not a whole number" in skipped


def listed(stack):
    """A list, or None while the service starts again."""
    try:
        return stack.client.send(calls.recommend("misfits", n=7))
    except ClientError:
        return None


def test_many_cells_at_once_are_kept_and_too_many_refused(stack):
    """More cells than one statement has room for parameters."""
    names = [f"c{n}" for n in range(80)]
    table = f"item,{','.join(names)}\n" + "".join(f"i{n},{','.join(['0'] * 80)}\n" for n in range(200))
    stack.add("manycells", "user,item,kind,time,value\nu,i1,view,2026-01-01,\n", items=table)
    changes = [{"id": f"i{row}", "columns": dict.fromkeys(names, row)} for row in range(200)]
    answer = stack.http.post("/v1/datasets/manycells/items/changes", json={"changes": changes})
    assert (answer.status_code, answer.json().get("cells")) == (200, 16_000)
    too_many = [{"id": f"i{row % 200}", "columns": dict.fromkeys(names, row)} for row in range(700)]
    answer = stack.http.post("/v1/datasets/manycells/items/changes", json={"changes": too_many})
    assert (answer.status_code, "56,000 cells are more than the 50,000" in answer.text) == (422, True)


def test_changed_cells_are_bounded_in_bytes_until_they_are_gathered(stack, monkeypatch):
    """What no version contains is held by every shelf."""
    stack.add("heavy", "user,item,kind,time,value\nu,i1,view,2026-01-01,\n", items="item,note\ni1,a\ni2,b\n")
    monkeypatch.setattr(live_columns, "MAX_BYTES", 10_000)
    engine = make_engine(stack.database_url)
    with engine.begin() as connection:
        dataset_id = datasets.id_of(connection, "heavy")
        live_columns.put_all(connection, dataset_id, "item", [("i1", "note", "x" * 6000)], "test")
    with pytest.raises(ConflictError, match="12,004 bytes, and at most 10,000 are held"), engine.begin() as connection:
        live_columns.put_all(connection, dataset_id, "item", [("i2", "note", "y" * 6000)], "test")
    stack.client.wait(stack.client.send(event_calls.gather_events("heavy")).id)
    with engine.begin() as connection:
        live_columns.put_all(connection, dataset_id, "item", [("i2", "note", "y" * 6000)], "test")
    engine.dispose()


def test_shelves_of_one_version_take_in_a_change_together(demo, shelf):
    """What they share is looked up and built once: thirty shelves took 1.4 s to take in one cell, each on its own."""
    engine = make_engine(demo.database_url)
    artefacts = ArtefactStore(str(demo.home / "artefacts"), demo.home / "cache", Pins(engine))
    keeper = ShelfKeeper(engine, ModelCache(engine, artefacts), LiveEvents(engine, 1000))
    before = [keeper.get(name) for name in (shelf, "for-growers")]
    assert send(demo, {"stock": 31}, "v-0011").status_code == 200
    keeper.reload(before[0].dataset_id)
    changing, for_growers = keeper.get(shelf), keeper.get("for-growers")
    assert changing.items is for_growers.items
    assert changing.items.of("v-0011", ["stock"]) == {"stock": 31}
    assert changing.model.fitted is for_growers.model.fitted
    engine.dispose()


@pytest.mark.parametrize("field", ["user", "item", "id", "source", "kind"])
def test_ids_are_bounded_in_bytes(demo, field):
    event = {"data": "seeds", "user": "u", "item": "v-0007", "kind": "view"} | {field: "\U0001f331" * 1000}
    answer = demo.http.post("/v1/events", json=event)
    assert answer.status_code == 422
    assert "4,000 bytes" in answer.text or "at most 1000 characters" in answer.text
