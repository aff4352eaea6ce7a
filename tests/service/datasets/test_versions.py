"""Versions: rows added, compared, removed, a user forgotten, exported and brought in again."""

from __future__ import annotations

import io
import json

import polars as pl
import pytest

from bringing import RATED, TIMED, bring, csv_of
from gleaner.client import JobFailedError, NotFoundError, RefusedError, calls
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.models.training import TrainRequest
from stack import wait_for


def test_rows_are_added_to_make_the_next_version(stack):
    items = "item,stock\na,1\nb,2\n"
    stack.add("grown", "user,item,value\nu,a,1\nv,b,2\n", RATED, items=items)
    more = csv_of(stack, "user,item,value\nw,c,5\nu,a,5\n", onto=1)
    more = more.model_copy(update={"items": stack.send_text("item,stock\nb,7\nc,3\n", "items.csv")})
    version = bring(stack, "grown", more)
    assert (version.name, version.rows, version.base) == ("grown@2", 4, "grown@1")
    stock = dict(stack.client.send(calls.rows("grown", 2, "items")).rows)
    assert stock == {"a": 1, "b": 7, "c": 3}
    comparison = stack.client.send(calls.compare_versions("grown", 1, 2))
    assert (comparison.counts["rows"], comparison.users_new, comparison.items_new, comparison.items_gone) == (
        (2, 4),
        1,
        1,
        0,
    )
    assert comparison.popularity_drift == pytest.approx(0.25)
    assert comparison.value_means == (1.5, 3.25)
    assert comparison.value_drift == pytest.approx(0.5)
    with pytest.raises(NotFoundError, match="there is no dataset version 'grown@9'"):
        stack.client.send(calls.import_version("grown", csv_of(stack, "user,item,value\nu,a,1\n", onto=9)))
    alone = more.model_copy(update={"interactions": None, "items": stack.send_text("item,stock\na,9\n", "a.csv")})
    renewed = bring(stack, "grown", alone.model_copy(update={"onto": 2}))
    assert (renewed.name, renewed.rows, renewed.base) == ("grown@3", 4, "grown@2")
    assert dict(stack.client.send(calls.rows("grown", 3, "items")).rows) == {"a": 9, "b": 7, "c": 3}
    whole = pl.read_parquet(io.BytesIO(stack.client.send(calls.table_file("grown", 2, "interactions"))))
    assert whole["user"].to_list() == ["u", "v", "w", "u"]


def test_a_table_alone_keeps_what_the_version_takes_its_columns_for(stack):
    items = "item,traits\n" + "".join(f"i{n},early|tall\n" for n in range(6))
    stack.add("retold", "user,item,value\n" + "".join(f"u,i{n},1\n" for n in range(6)), RATED, items=items)
    assert stack.client.send(calls.dataset_version("retold", 1)).item_columns[1].type == "categories"
    # one trait each, which by itself would be read as a text
    few = csv_of(stack, "", onto=1).model_copy(
        update={"interactions": None, "items": stack.send_text("item,traits\ni0,late\ni1,\n", "few.csv")}
    )
    assert bring(stack, "retold", few).name == "retold@2"
    told = dict(stack.client.send(calls.rows("retold", 2, "items")).rows)
    assert (told["i0"], told["i1"], told["i2"]) == (["late"], None, ["early", "tall"])


def artefacts(stack) -> set[str]:
    """What is kept; the upload of a job that has just ended goes a moment later."""
    return {path for path in stack.files() if path.startswith("artefacts")}


def test_a_version_is_removed_for_good_but_not_while_it_is_needed(demo):
    # rows of its own in each version: equal files are kept once, whoever made them
    demo.add("gone", "user,item,value\ngone-1,first,1\n", RATED)
    demo.add("gone", "user,item,value\ngone-2,second,2\n", RATED)
    before = artefacts(demo)
    assert demo.client.send(calls.remove_version("gone", 1)).models == []
    assert len(before - artefacts(demo)) == 3
    with pytest.raises(NotFoundError, match=r"'gone@1' was removed on"):
        demo.client.send(calls.dataset_version("gone", 1))
    assert [version.name for version in demo.client.send(calls.dataset("gone")).versions] == ["gone@2"]
    assert demo.add("gone", "user,item,value\ngone-3,third,3\n", RATED).name == "gone@3"
    with pytest.raises(RefusedError, match="is what shelf 'for-growers' serves with"):
        demo.client.send(calls.remove_version("seeds", 1, force=True))


LITTLE = "user,item,value,time\n" + "".join(
    f"u{n % 12},i{(n * n + n // 5) % 23},{1 + n % 5},2026-01-{1 + n % 28:02d}T{n % 24:02d}:00:00Z\n" for n in range(200)
)


def test_what_a_model_was_trained_on_goes_only_by_force(stack):
    stack.add("needed", LITTLE, TIMED)
    run = stack.run_contest(
        "contest: needing\ndata: needed@1\nrank: {at: [3], metrics: [ndcg], decide_by: ndcg@3}\ncontenders: [popular]\n"
    )
    with pytest.raises(
        RefusedError, match=rf"models were trained on needed@1, such as {run.standings[0].model} \(1 in all\)"
    ):
        stack.client.send(calls.remove_version("needed", 1))
    pruning = TrainRequest(data="needed@1", family="item_knn", name="needing-all", prepare=PrepareSpec(min_user=2))
    stack.client.wait(stack.client.send(calls.train_model(pruning)).id)
    models = [run.standings[0].model, "needing-all@1"]
    assert sorted(stack.client.send(calls.remove_version("needed", 1, force=True)).models) == sorted(models)
    for model in models:
        assert stack.client.send(calls.model_recommend(model, "u1", 2, include_known=True)).list


def test_a_user_is_forgotten_everywhere(stack):
    users = "user,zone\nu1,Z1\nu2,Z2\n"
    stack.add("people", LITTLE, TIMED, users=users)
    stack.add("people", LITTLE + "u2,i1,3,2026-02-01T00:00:00Z\n", TIMED, users=users)
    run = stack.run_contest(
        "contest: people\ndata: people@1\nrank: {at: [3], metrics: [ndcg], decide_by: ndcg@3}\ncontenders: [popular]\n"
    )
    before = artefacts(stack)
    job = stack.client.wait(stack.client.send(calls.forget_user("people", "u1")).id)
    mine = sum(line.startswith("u1,") for line in LITTLE.splitlines())
    assert job.result == {
        "rows": 2 * mine, "versions": ["people@1", "people@2"], "models": [run.standings[0].model], "lists": 0, "events": 0,
        "files": 0, "sent": [],
    }  # fmt: skip
    for number in (1, 2):
        assert stack.client.send(
            calls.query("people", number, "SELECT count(*) FROM interactions WHERE user = 'u1'")
        ).rows == [[0]]
        assert stack.client.send(calls.query("people", number, "SELECT id FROM users")).rows == [["u2"]]
        version = stack.client.send(calls.dataset_version("people", number))
        assert (version.forgotten, version.users) == (1, 11)
    # no file that held them is left, and the job does not say who it was
    kept = artefacts(stack)
    assert len(before - kept) >= 4
    files = "SELECT interactions_file, users_file, user_activity_file FROM versions v JOIN datasets d ON d.id = dataset_id WHERE d.name = 'people'"
    figures = "SELECT per_user_file FROM standings s JOIN runs r ON r.id = run_id WHERE r.contest = 'people'"
    for digest in [digest for row in stack.sql(files) + stack.sql(figures) for digest in row]:
        table = pl.read_parquet(stack.home / "artefacts" / digest[:2] / digest)
        assert "u1" not in table["user" if "user" in table.columns else "id"].to_list()
        assert "u2" in table["user" if "user" in table.columns else "id"].to_list()
    wait_for(lambda: stack.sql("SELECT payload::text FROM jobs WHERE id = %s", job.id) == [("{}",)])
    with pytest.raises(JobFailedError, match="no version of people has this user"):
        stack.client.wait(stack.client.send(calls.forget_user("people", "nobody")).id)


def test_what_is_exported_comes_in_again_as_it_was(demo, tmp_path):
    done = demo.gleaner("data", "export", "seeds@1", "--out", str(tmp_path))
    assert done.returncode == 0
    roles = [part for role in ("user", "item", "kind", "time", "value") for part in (f"--{role}", role)]
    files = ["--items", str(tmp_path / "items.parquet"), "--users", str(tmp_path / "users.parquet")]
    done = demo.gleaner("data", "add", "again", str(tmp_path / "interactions.parquet"), *roles, *files, "--json")
    again, before = json.loads(done.stdout), demo.client.send(calls.dataset_version("seeds", 1))
    assert [(column["name"], column["type"]) for column in again["item_columns"] if column["type"] == "categories"] == [
        ("traits", "categories"), ("sowing_months", "categories")
    ]  # fmt: skip
    assert again["content_hash"] == before.content_hash
    assert again["profile"]["cells"] == before.profile.cells
