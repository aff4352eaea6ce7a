"""Previews, queries, splits, items, users and features, through the running service."""

from __future__ import annotations

import io

import polars as pl
import pytest

from bringing import TIMED, bring, divided
from gleaner.client import NotFoundError, RefusedError, calls
from gleaner.wire.imports import GivenParts, ImportRequest, Roles


@pytest.fixture(scope="module", autouse=True)
def bare(stack) -> None:
    """A dataset without tables, times or parts."""
    stack.add("bare", "user,item\nu,a\n", Roles(user="user", item="item"))


def test_files_split_beforehand_and_their_leaks(stack):
    training = "user,item,value,time\nu,a,1,2026-01-05\nu,b,2,2026-01-06\nv,a,3,2026-01-07\n"
    test = "user,item,value,time\nu,a,1,2026-01-05\nv,b,2,2026-01-08\n"
    parts = GivenParts(training=stack.send_text(training, "train.csv"), test=stack.send_text(test, "test.csv"))
    version = bring(stack, "given", ImportRequest(parts=parts, roles=TIMED))
    assert version.parts == {"training": 3, "test": 2}
    report = divided(stack, "given", "split: {by: given}\n")
    leak = report.parts[-1].leak
    assert (leak.same_rows, leak.early_rows, leak.leaks) == (1, 1, True)
    with pytest.raises(RefusedError, match="was not imported as files split beforehand"):
        divided(stack, "bare", "split: {by: given}\n")


def test_a_split_is_reported_without_training(demo):
    text = "prepare: {kinds: {view: 1, save: 3}, half_life_days: 90, transform: [log1p, {cap: 0.99}], min_user: 3}\nsplit: {by: folds, folds: 3}\n"
    report = divided(demo, "seeds", text)
    assert [step.name for step in report.steps] == ["kinds", "half_life_days", "merge", "prune", "log1p", "cap"]
    assert [(part.part, part.fold) for part in report.parts if part.part == "test"] == [
        ("test", 1),
        ("test", 2),
        ("test", 3),
    ]
    assert sum(part.rows for part in report.parts if part.part == "test") == report.steps[0].rows_out
    with pytest.raises(NotFoundError, match="job 1 is no split"):
        demo.client.send(calls.split_report(1))
    with pytest.raises(RefusedError) as caught:
        divided(demo, "seeds", "prepare:\n  kinds: {buy: 1}\n  transform: [{cap: 7}]\nsplit: {by: users, folds: 3}\n")
    assert [error.line for error in caught.value.problem.errors] == [4]
    with pytest.raises(RefusedError) as caught:
        divided(demo, "seeds", "prepare:\n  kinds: {buy: 1}\n  transform: [{cap: 7}]\n")
    assert {(error.line, error.field) for error in caught.value.problem.errors} == {
        (2, "prepare.kinds.buy"), (3, "prepare.transform")
    }  # fmt: skip


@pytest.mark.parametrize(
    ("split", "trained_on"),
    [
        ("{by: users, test: 0.2, validation: 0}", "training"),
        ("{by: folds, folds: 2}", "everything; scored on folds"),
        ("{by: last, test: 1, validation: 1}", "training and validation"),
    ],
)
def test_contests_run_on_any_split(demo, split, trained_on):
    run = demo.run_contest(
        f"contest: any-split\ndata: seeds@1\nprepare: {{kinds: {{save: 1, request: 2}}, min_user: 3}}\nsplit: {split}\n"
        "rank: {at: [10], metrics: [ndcg, recall], decide_by: ndcg@10}\ncontenders: [item_knn]\n"
    )
    knn = next(standing for standing in run.standings if standing.family == "item_knn")
    assert knn.against_popular.verdict == "better"
    assert demo.client.send(calls.model(knn.model)).trained_on == trained_on
    assert ("folded in" in run.definitions["users"], "folds" in run.definitions["users"]) == (
        "by: users" in split, "by: folds" in split
    )  # fmt: skip
    assert all(part.leak is not None for part in run.parts if part.part != "training" and part.rows)
    assert knn.figure("ndcg@10").low <= knn.figure("ndcg@10").mean <= knn.figure("ndcg@10").high


def test_rows_are_looked_at(demo):
    page = demo.client.send(calls.rows("seeds", 1, where="kind = 'grown' AND time >= DATE '2026-06-01'", limit=3))
    assert (len(page.rows), page.total > 100, page.rows[0][2]) == (3, True, "grown")
    one, two = (demo.client.send(calls.rows("seeds", 1, "users", sample=5)) for _ in range(2))
    assert one.sampled
    assert one.rows == two.rows
    assert one.rows != demo.client.send(calls.rows("seeds", 1, "users", limit=5)).rows
    with pytest.raises(RefusedError, match="there is no column 'nope'"):
        demo.client.send(calls.rows("seeds", 1, where="nope = 1"))
    with pytest.raises(NotFoundError, match="has no items table"):
        demo.client.send(calls.rows("bare", 1, "items"))


def test_sql_answers_in_three_ways(demo):
    sql = "SELECT kind, count(*) AS n, max(time) AS last FROM interactions GROUP BY kind ORDER BY n DESC"
    answer = demo.client.send(calls.query("seeds", 1, sql))
    assert (answer.columns, answer.rows[0][:2], answer.cut) == (["kind", "n", "last"], ["view", 52761], False)
    assert answer.rows[0][2] == "2026-08-17T23:47:33Z"
    table = pl.read_parquet(io.BytesIO(demo.client.send(calls.query_file("seeds", 1, sql, "parquet"))))
    assert table["n"].to_list() == [row[1] for row in answer.rows]
    text = demo.client.send(
        calls.query_file("seeds", 1, "SELECT id, traits FROM items WHERE id = 'v-0002'", "csv")
    ).decode()
    assert text == "id,traits\nv-0002,early|heirloom|frost-hardy|container\n"
    few = demo.client.send(calls.query("seeds", 1, "SELECT user FROM interactions", 3))
    assert (len(few.rows), few.cut) == (3, True)
    twice = demo.client.send(
        calls.query("seeds", 1, "SELECT 1 AS a, 2 AS a, 'x' AS b, NULL AS c, DATE '2026-01-01' AS d")
    )
    assert (twice.columns, twice.rows) == (["a", "a_2", "b", "c", "d"], [[1, 2, "x", None, "2026-01-01"]])


@pytest.mark.parametrize(
    ("sql", "message"),
    [
        ("DELETE FROM items", "only a SELECT can be run, and nothing is ever written; this is DELETE"),
        ("DROP VIEW items", "this is DROP"),
        ("COPY items TO '/tmp/gleaner-copied.csv'", "this is COPY"),
        ("SET memory_limit = '90GB'", "this is SET"),
        ("ATTACH '/tmp/gleaner.db'", "this is ATTACH"),
        ("INSTALL httpfs", "this is LOAD"),
        (
            "SELECT * FROM read_csv('/etc/passwd')",
            "a query reads the tables interactions, items and users, and nothing else",
        ),
        ("SELECT * FROM '/etc/passwd'", "Table with name /etc/passwd does not exist"),
        ("SELECT * FROM '/etc/x.csv'", "and nothing else"),
        ("SELECT * FROM read_text('postgres.secret')", "and nothing else"),
        ("SELECT * FROM glob('/*')", "and nothing else"),
        ("SELECT * FROM read_parquet('http://127.0.0.1/x')", "and nothing else"),
        ("SELECT 1; SELECT 2", "one SELECT is run at a time; this is 2 statements"),
        ("", "at least 1 character"),
        ("SELEC 1", 'syntax error at or near "SELEC"'),
        ("SELECT nope FROM items", 'Referenced column "nope" not found'),
        ("SELECT getenv('HOME')", "getenv"),
        ("SELECT string_agg(repeat(i.user, 100000), '') FROM interactions i, items j", "needs more than 2048 MB"),
    ],
)
def test_sql_that_writes_reads_files_or_takes_too_much_is_refused(demo, sql, message):
    response = demo.http.post("/v1/datasets/seeds/versions/1/query", json={"sql": sql})
    assert (response.status_code, message in response.json()["detail"]) == (422, True), response.text


def test_sql_over_a_table_that_is_not_there_says_so(stack):
    stack.add("no-items", "user,item\nu,i\n", Roles(user="user", item="item"))
    with pytest.raises(RefusedError, match="this version has no items table"):
        stack.client.send(calls.query("no-items", 1, "SELECT * FROM items"))


def test_sql_that_runs_for_ever_is_stopped(hasty):
    hasty.add("small", "user,item\n" + "".join(f"u{n},i{n}\n" for n in range(3000)), Roles(user="user", item="item"))
    endless = "SELECT sum(length(a.user || b.item || c.user)) FROM interactions a, interactions b, interactions c"
    with pytest.raises(RefusedError, match=r"the query took longer than 1\.5 s and was stopped"):
        hasty.client.send(calls.query("small", 1, endless))
    assert not list((hasty.home / "staging").glob("query-*"))


def test_one_item_and_chosen_users(demo):
    facts = demo.client.send(calls.item_facts("seeds", 1, "v-0784", 3))
    rows = pl.read_parquet(io.BytesIO(demo.client.send(calls.table_file("seeds", 1, "interactions"))))
    mine = rows.filter(item="v-0784")
    assert (facts.rows, facts.users) == (mine.height, mine["user"].n_unique())
    assert facts.mean == pytest.approx(mine["value"].mean())
    assert sum(bin_.rows for bin_ in facts.histogram) == mine["value"].count()
    assert sum(point.rows for point in facts.over_time) == mine.height
    other = facts.together[0]
    both = set(mine["user"]) & set(rows.filter(item=other.item)["user"])
    assert (other.shared, other.label) == (len(both), "Sandpiper Gold Maize")
    with pytest.raises(NotFoundError, match="has no item 'v-9999'"):
        demo.client.send(calls.item_facts("seeds", 1, "v-9999"))
    overlap = demo.client.send(calls.overlap("seeds", 1, ["g-0616", "g-1178", "nobody"]))
    assert (overlap.unknown, len(overlap.pairs), overlap.pairs[0].common) == (["nobody"], 1, 74)
    with pytest.raises(RefusedError, match="two different users"):
        demo.client.send(calls.overlap("seeds", 1, ["g-0616", "g-0616"]))
    assert demo.client.send(calls.find_items("seeds", 1, "v-078", 2))[0].item == "v-0784"


def test_features_are_described(demo):
    report = demo.client.send(calls.features("seeds", 1, "users"))
    assert {column.column: column.role for column in report.columns} == {
        "zone": "category", "plot": "category", "experience_years": "number", "interests": "categories"
    }  # fmt: skip
    assert report.features == sum(column.features for column in report.columns)
    assert next(c.examples for c in report.columns if c.column == "experience_years") == [
        "experience_years",
        "experience_years (missing)",
    ]
    with pytest.raises(NotFoundError, match="has no users table"):
        demo.client.send(calls.features("bare", 1, "users"))


def test_any_table_can_be_had_as_parquet(demo):
    response = demo.http.post("/v1/tables", json={"columns": ["name", "n"], "rows": [["a", 1], ["b", None]]})
    assert pl.read_parquet(io.BytesIO(response.content)).rows() == [("a", 1.0), ("b", None)]
    response = demo.http.post("/v1/tables", json={"columns": ["name", "n"], "rows": [["a"]]})
    assert (response.status_code, "row 1 has not one cell" in response.json()["detail"]) == (422, True)
