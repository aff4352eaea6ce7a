"""Files for other systems: what they hold is what the model answers."""

from __future__ import annotations

from pathlib import Path

import polars as pl
import pytest

from commands import call
from gleaner.client import (
    Client,
    DeniedError,
    JobFailedError,
    RefusedError,
    calls,
    event_calls,
    export_calls,
    job_calls,
    model_calls,
    service_calls,
    shelf_calls,
)
from gleaner.jobs.exports.export import beside
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.events import Change
from gleaner.wire.exports import ExportRequest
from gleaner.wire.keys import KeyRequest, Scope
from gleaner.wire.models.training import TrainRequest
from gleaner.wire.models.values import Pair
from tolerances import KEPT, SINGLE

USERS = 1347
READ = {"parquet": pl.read_parquet, "csv": pl.read_csv, "ndjson": pl.read_ndjson}


def export(demo, path: Path, **fields) -> pl.DataFrame:
    request = ExportRequest(model="first-look.als", **fields)
    job = demo.client.wait(demo.client.send(export_calls.export(request)).id)
    demo.client.save(job_calls.job_file(job.id), path)
    frame = READ[request.format](path)
    assert (job.result["rows"], job.result["bytes"]) == (frame.height, path.stat().st_size)
    return frame


@pytest.mark.parametrize("form", ["parquet", "csv", "ndjson"])
def test_top_items_are_the_lists_of_the_model(demo, tmp_path, form):
    exported = export(demo, tmp_path / "x", what="top-items", n=5, where="stock > 0", format=form)
    assert exported.columns == ["user", "position", "item", "score"]
    assert exported["user"].n_unique() == USERS
    assert exported.height == 5 * USERS
    for user in ("g-0417", exported["user"][-1]):
        answer = demo.client.send(model_calls.model_recommend("first-look.als", user, 5, where="stock > 0"))
        mine = exported.filter(pl.col("user") == user).sort("position")
        assert mine["item"].to_list() == [place.item for place in answer.list]
        assert mine["score"].to_list() == pytest.approx([place.score for place in answer.list], abs=SINGLE)


def test_top_users_are_the_audience_of_each_item(demo, tmp_path):
    exported = export(demo, tmp_path / "x", what="top-users", n=4, where="zone = 'Z4'")
    answer = demo.client.send(model_calls.audience("first-look.als", "v-0007", 4, where="zone = 'Z4'"))
    mine = exported.filter(pl.col("item") == "v-0007").sort("position")
    assert mine["user"].to_list() == [each.user for each in answer.users]


@pytest.mark.parametrize("known", [False, True])
def test_affinity_is_a_column_for_each_item(demo, tmp_path, known):
    items = ["v-0363", "v-0010"]
    exported = export(demo, tmp_path / "x", what="affinity", items=items, include_known=known)
    assert exported.columns == ["user", *items]
    assert exported["user"].n_unique() == exported.height == USERS
    row = exported.row(by_predicate=pl.col("user") == "g-0417", named=True)
    answer = demo.client.send(model_calls.model_recommend("first-look.als", "g-0417", 1000, include_known=True))
    scores = {place.item: place.score for place in answer.list}
    # v-0363 is of their history
    assert (row["v-0363"] is None) == (not known)
    assert row["v-0010"] == pytest.approx(scores["v-0010"], abs=SINGLE)
    if known:
        assert row["v-0363"] == pytest.approx(scores["v-0363"], abs=SINGLE)


def test_affinity_of_some_users(demo, tmp_path):
    exported = export(demo, tmp_path / "x", what="affinity", items=["v-0010"], where="zone = 'Z2'", format="csv")
    zones = pl.read_csv(Path(__file__).parents[3] / "src/gleaner/demo/data/growers.csv.gz").filter(
        pl.col("zone") == "Z2"
    )
    assert 0 < exported.height <= zones.height
    assert set(exported["user"]) <= set(zones["grower"])


@pytest.mark.parametrize(
    ("fields", "says"),
    [
        ({"what": "affinity", "items": ["v-0010", "nothing"]}, "does not know item 'nothing'"),
        ({"what": "top-items", "where": "colour = 'red'"}, "there is no column 'colour'"),
        ({"what": "top-users", "where": "stock > 0"}, "there is no column 'stock'; there are: id, zone"),
    ],
)
def test_what_does_not_fit_is_refused_before_any_work(demo, fields, says):
    with pytest.raises(RefusedError, match=says):
        demo.client.send(export_calls.export(ExportRequest(model="first-look.als", **fields)))


@pytest.fixture(scope="module")
def values_model(demo) -> str:
    how = PrepareSpec(kinds={"grown": 1}, use="values", merge="mean")
    request = TrainRequest(data="seeds", family="als_values", name="exports.values", params={"rank": 8}, prepare=how)
    return demo.client.wait(demo.client.send(model_calls.train_model(request)).id).result["model"]


def test_values_of_pairs_are_what_the_model_predicts(demo, values_model, tmp_path):
    pairs = [("g-0417", "v-0010"), ("g-0417", "v-0007"), ("nobody", "v-0010"), ("nobody", "nothing"), ("007", "v-0010")]
    text = "item,user\n" + "".join(f"{item},{user}\n" for user, item in pairs)
    source = demo.send_text(text, "pairs.csv")
    request = ExportRequest(what="values", model=values_model, pairs=source, format="parquet")
    job = demo.client.wait(demo.client.send(export_calls.export(request)).id)
    demo.client.save(job_calls.job_file(job.id), tmp_path / "x.parquet")
    table = pl.read_parquet(tmp_path / "x.parquet")
    assert table.select("user", "item").rows() == pairs
    answer = demo.client.send(model_calls.rate(values_model, [Pair(user=user, item=item) for user, item in pairs]))
    assert table["value"].to_list() == pytest.approx([each.value for each in answer.ratings], abs=KEPT)
    assert table["answerable"].to_list() == [each.answerable for each in answer.ratings]
    assert (table["answerable"][0], table["answerable"][3]) == (True, False)
    assert table["reason"].to_list() == [each.reason for each in answer.ratings]
    assert not (demo.home / "uploads" / str(source.upload)).exists()


def test_pairs_without_an_item_are_refused_by_row(demo, values_model):
    source = demo.send_text("user,item\na,b\nc,\n", "pairs.csv")
    request = ExportRequest(what="values", model=values_model, pairs=source)
    with pytest.raises(JobFailedError, match=r"pairs.csv row 3 names no item"):
        demo.client.wait(demo.client.send(export_calls.export(request)).id)
    again = ExportRequest(what="values", model="first-look.als", pairs=demo.send_text("user,item\n", "pairs.csv"))
    with pytest.raises(RefusedError, match="ranks and does not predict values"):
        demo.client.send(export_calls.export(again))


def test_a_file_goes_to_a_url_whole(demo, tmp_path):
    place = tmp_path / "far" / "lists.csv"
    request = ExportRequest(what="top-items", model="first-look.als", n=2, format="csv", to=f"file://{place}")
    result = demo.client.wait(demo.client.send(export_calls.export(request)).id).result
    assert (result["to"], result["rows"]) == (f"file://{place}", 2 * USERS)
    assert pl.read_csv(place).height == 2 * USERS
    assert {each.name for each in place.parent.iterdir()} == {"lists.csv", "lists.left-out.csv"}
    assert result["left_out"]["to"] == f"file://{place.parent}/lists.left-out.csv"
    request.to = "nowhere://x/lists.csv"
    with pytest.raises(RefusedError, match="'nowhere' URLs are not taken; taken are abfs, "):
        demo.client.wait(demo.client.send(export_calls.export(request)).id)


def test_who_is_left_out_is_told_with_the_reason(demo, tmp_path):
    data = Path(__file__).parents[3] / "src/gleaner/demo/data/interactions.csv.gz"
    rows = dict(pl.read_csv(data)["grower"].value_counts().iter_rows())
    out = tmp_path / "lists.csv"
    code, output, _ = call(
        "export", "top-items", "--model", "first-look.als", "-n", "2", "--out", str(out), GLEANER_URL=demo.url
    )
    assert code == 0
    listed = set(pl.read_csv(out)["user"])
    without_list = {user: n for user, n in rows.items() if user not in listed}
    few = sum(n < 5 for n in without_list.values())
    assert (len(rows), len(listed), len(without_list)) == (1500, USERS, 1500 - USERS)
    assert few > 20
    assert f"{len(without_list)} of 1,500 users are left out: {tmp_path}/lists.left-out.csv" in output
    assert f"  {few}: fewer than 5 interactions, and the preparation prunes those (min_user: 5)" in output
    report = pl.read_csv(tmp_path / "lists.left-out.csv")
    assert dict(report.select("user", "rows").iter_rows()) == without_list
    assert (report.filter(pl.col("rows") < 5)["reason"].str.starts_with("fewer than 5")).all()
    assert report.filter(pl.col("rows") >= 5)["reason"].unique().to_list() == [
        "the preparation leaves nothing of them, or nothing in the part that the model was trained on"
    ]
    exports = demo.client.send(job_calls.list_jobs(kind="export")).items
    assert {each.kind for each in exports} == {"export"}
    assert f"{exports[0].id}" in demo.gleaner("job", "list", "--kind", "export", "-n", "1").stdout
    unknown = demo.gleaner("job", "list", "--kind", "exports")
    assert unknown.returncode == 1
    assert "kind: Input should be 'import', 'split'," in unknown.stderr
    job = exports[0]
    assert job.result["left_out"]["count"] == len(without_list)
    assert (
        f"{len(without_list)} of 1,500 users are left out ({len(without_list) - few}: " in job.message
        or f"({few}: " in job.message
    )


def test_who_has_nothing_listed_is_left_out_too(demo, tmp_path):
    request = ExportRequest(what="top-items", model="first-look.als", n=2, where="id = 'v-0363'")
    result = demo.client.wait(demo.client.send(export_calls.export(request)).id).result
    listed = result["rows"]
    assert result["left_out"]["reasons"]["nothing is left to list"] == USERS - listed
    # those who have the one item that may be listed
    assert 0 < USERS - listed < 400


def into_table(demo, mode: str, n: int, table: str = "campaign.lists"):
    target = {"url": demo.database_url, "table": table, "mode": mode}
    request = ExportRequest(what="top-items", model="first-look.als", n=n, table=target)
    return demo.client.wait(demo.client.send(export_calls.export(request)).id).result


def test_rows_go_into_a_table_all_or_none(demo):
    demo.sql("CREATE SCHEMA IF NOT EXISTS campaign")
    demo.sql("DROP TABLE IF EXISTS campaign.lists")
    with pytest.raises(JobFailedError, match=r"campaign.lists is not there, so nothing can be added"):
        into_table(demo, "append", 1)
    assert into_table(demo, "new", 2)["rows"] == 2 * USERS
    answer = demo.client.send(model_calls.model_recommend("first-look.als", "g-0417", 2)).list
    rows = demo.sql('SELECT position, item, score FROM campaign.lists WHERE "user" = %s ORDER BY position', "g-0417")
    assert [row[:2] for row in rows] == [(place.position, place.item) for place in answer]
    assert [row[2] for row in rows] == pytest.approx([place.score for place in answer], abs=SINGLE)
    with pytest.raises(JobFailedError, match=r"campaign.lists is there already; say append or replace"):
        into_table(demo, "new", 1)
    into_table(demo, "append", 1)
    assert demo.sql("SELECT count(*) FROM campaign.lists") == [(3 * USERS,)]
    into_table(demo, "replace", 1)
    assert demo.sql("SELECT count(*) FROM campaign.lists") == [(USERS,)]
    demo.sql("ALTER TABLE campaign.lists ADD CHECK (position < 2)")
    with pytest.raises(JobFailedError, match=r"the database refused: .*violates check constraint"):
        into_table(demo, "replace", 2)
    assert demo.sql("SELECT count(*), max(position) FROM campaign.lists") == [(USERS, 1)]


def test_a_key_that_builds_writes_only_where_it_may(demo):
    key = demo.client.send(service_calls.create_key(KeyRequest(name="exporter", scopes=[Scope.BUILD])))
    with Client(demo.url, key.secret) as client:
        for target in ({"to": "file:///tmp/x.csv"}, {"table": {"url": "postgresql://u:hidden@h/d", "table": "t"}}):
            request = ExportRequest(what="top-items", model="first-look.als", **target)
            with pytest.raises(
                DeniedError, match="needs a key with the scope admin, or a place in GLEANER_TARGETS"
            ) as no:
                client.send(export_calls.export(request))
            assert "hidden" not in str(no.value)


@pytest.mark.parametrize("to", ["lists.csv", "", "./lists.csv"])
def test_a_file_is_never_written_to_where_the_service_happens_to_run(demo, to):
    request = ExportRequest(what="top-items", model="first-look.als", format="csv", to=to)
    with pytest.raises(RefusedError, match=r"to: .* names no place: a path begins with /"):
        demo.client.send(export_calls.export(request))


def test_a_condition_sees_what_changed_since(demo, tmp_path):
    demo.client.send(event_calls.change_items("seeds", [Change(id="v-0010", columns={"stock": 4321})]))
    exported = export(demo, tmp_path / "b", what="top-items", n=5, where="stock = 4321", include_known=True)
    assert (exported["item"].unique().to_list(), exported.height) == (["v-0010"], USERS)
    demo.client.send(event_calls.change_items("seeds", [Change(id="v-0010", columns={"stock": 4})]))


def test_items_are_for_affinity_and_for_it_alone():
    for request in ({"what": "affinity"}, {"what": "top-items", "items": ["a"]}):
        with pytest.raises(ValueError, match="items are the columns of affinity"):
            ExportRequest(model="m", **request)
    with pytest.raises(ValueError, match="an item called 'user' cannot be a column"):
        ExportRequest(model="m", what="affinity", items=["user"])
    with pytest.raises(ValueError, match="an item is named twice"):
        ExportRequest(model="m", what="affinity", items=["a", "a"])


def test_the_commands_write_what_the_name_says(demo, tmp_path):
    at = {"GLEANER_URL": demo.url}
    for name, read in (("a.csv", pl.read_csv), ("b.parquet", pl.read_parquet), ("c.jsonl", pl.read_ndjson)):
        out = tmp_path / name
        code, output, _ = call("export", "top-items", "--model", "first-look.als", "-n", "3", "--out", str(out), **at)
        assert (code, f"{3 * USERS:,} rows of top-items" in output) == (0, True)
        assert read(out).height == 3 * USERS
    code, _, err = call("export", "top-items", "--model", "first-look.als", "--out", str(tmp_path / "a.csv"), **at)
    assert (code, "is there already" in err) == (2, True)
    code, _, err = call("export", "top-items", "--model", "first-look.als", "--out", str(tmp_path / "a.xls"), **at)
    assert (code, "--out must end in .parquet, .csv, .ndjson, .jsonl, and a.xls does not" in err) == (2, True)
    code, _, err = call("export", "top-items", "--model", "first-look.als", **at)
    assert (code, "say where it goes: --out FILE, --to URL, or --database URL --table NAME" in err) == (2, True)
    code, _, err = call("export", "top-items", "--model", "first-look.als", "--table", "x", **at)
    assert (code, "--table and --database go together" in err) == (2, True)
    code, output, _ = call(
        "export", "top-items", "--model", "first-look.als", "-n", "1", "--to", f"file://{tmp_path}/d.csv", **at
    )
    assert (code, f"rows of top-items, 0.0 MB: file://{tmp_path}/d.csv" in output) == (0, True)
    for name in ("a", "b", "c", "d"):
        assert pl.read_csv(tmp_path / f"{name}.left-out.csv").columns == ["user", "rows", "reason"]
        (tmp_path / f"{name}.left-out.csv").unlink()
    (tmp_path / "d.csv").unlink()
    code, _, err = call("model", "all", "first-look.als", "--out", str(tmp_path / "all.csv"), **at)
    assert (code, "is a Parquet file and all.csv is not" in err) == (2, True)
    assert {each.name for each in tmp_path.iterdir()} == {"a.csv", "b.parquet", "c.jsonl"}


def test_lists_of_a_shelf_are_those_it_serves(demo, tmp_path):
    request = ExportRequest(what="lists", shelf="for-growers", n=5)
    job = demo.client.wait(demo.client.send(export_calls.export(request)).id)
    demo.client.save(job_calls.job_file(job.id), tmp_path / "x")
    exported = pl.read_parquet(tmp_path / "x")
    assert exported.columns == ["user", "position", "item", "score", "source", "promoted", "stand_in"]
    version = demo.client.send(shelf_calls.shelf("for-growers"))
    assert job.result["shelf"] == f"for-growers@{version.number}"
    # everybody of the table of users, whether the model knows them or not, and whom tests before sent events of
    everybody = 1500 + len(strangers_with_events(demo))
    assert exported["user"].n_unique() == everybody
    assert job.result["left_out"] == {"side": "user", "count": 0, "of": everybody, "reasons": {}}
    known = exported.filter(pl.col("stand_in").is_null())["user"].unique().sort()
    unknown = exported.filter(pl.col("stand_in").is_not_null())["user"].unique().sort()
    assert len(known) == USERS
    for user in (known[700], known[-1], unknown[0], unknown[-1]):
        answer = demo.client.send(calls.recommend("for-growers", user=user, n=5))
        mine = exported.filter(pl.col("user") == user).sort("position")
        assert mine["item"].to_list() == [place.item for place in answer.list]
        assert mine["source"].to_list() == [place.source for place in answer.list]
        assert mine["promoted"].to_list() == [place.promoted for place in answer.list]
        assert mine["stand_in"].unique().to_list() == [answer.fallback or answer.folded_in]
    out = tmp_path / "everybody.csv"
    code, said, _ = call(
        "export", "lists", "--shelf", "for-growers", "-n", "2", "--out", str(out), GLEANER_URL=demo.url
    )
    assert code == 0
    assert f"{2 * everybody:,} rows of lists" in said
    assert pl.read_csv(out).height == 2 * everybody


def strangers_with_events(demo) -> set[str]:
    """Return the users who have live events and no row in the table of users."""
    rows = demo.sql(
        "SELECT DISTINCT e.user_id FROM events e JOIN datasets d ON d.id = e.dataset_id WHERE d.name = %s", "seeds"
    )
    users = {user for (user,) in rows}
    quoted = ", ".join(f"'{user}'" for user in {*users, ""})
    sql = f"SELECT id FROM users WHERE id IN ({quoted})"
    return users - {user for (user,) in demo.client.send(calls.query("seeds", 1, sql)).rows}


@pytest.mark.parametrize(
    ("fields", "mistake"),
    [
        ({"what": "lists", "model": "first-look.als"}, "lists are of a shelf"),
        ({"what": "top-items", "shelf": "for-growers"}, "lists are of a shelf"),
        ({"what": "lists", "shelf": "for-growers", "where": "stock > 0"}, "a shelf's own file says what it lists"),
        ({"what": "lists", "shelf": "nowhere"}, "there is no shelf 'nowhere'"),
    ],
)
def test_lists_go_with_a_shelf_and_nothing_else_does(demo, fields, mistake):
    answer = demo.http.post("/v1/exports", json=fields)
    assert answer.status_code in (404, 422)
    assert mistake in answer.text


@pytest.mark.parametrize(
    ("url", "expected"),
    [
        ("file:///out.d/sub/lists", "file:///out.d/sub/lists.left-out.csv"),
        ("file:///out.d/sub/lists.csv", "file:///out.d/sub/lists.left-out.csv"),
        ("/out/lists.v2.parquet", "/out/lists.v2.left-out.csv"),
        ("/out/.hidden", "/out/.hidden.left-out.csv"),
        ("s3://bucket.name/key", "s3://bucket.name/key.left-out.csv"),
    ],
)
def test_who_is_left_out_is_written_into_the_folder_of_the_export(url, expected):
    assert beside(url, ".left-out.csv") == expected
