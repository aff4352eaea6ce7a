"""Files for other systems: what they hold is what the model answers."""

from __future__ import annotations

from pathlib import Path

import polars as pl
import pytest

from commands import call
from gleaner.client import RefusedError, export_calls, job_calls, model_calls
from gleaner.wire.exports import ExportRequest

USERS = 1347
READ = {"parquet": pl.read_parquet, "csv": pl.read_csv, "ndjson": pl.read_ndjson}


def export(demo, path: Path, **asked) -> pl.DataFrame:
    request = ExportRequest(model="first-look.als", **asked)
    job = demo.client.wait(demo.client.send(export_calls.export(request)).id)
    demo.client.save(job_calls.job_file(job.id), path)
    frame = READ[request.format](path)
    assert (job.result["rows"], job.result["bytes"]) == (frame.height, path.stat().st_size)
    return frame


@pytest.mark.parametrize("form", ["parquet", "csv", "ndjson"])
def test_top_items_are_the_lists_of_the_model(demo, tmp_path, form):
    found = export(demo, tmp_path / "x", what="top-items", n=5, where="stock > 0", format=form)
    assert found.columns == ["user", "position", "item", "score"]
    assert found["user"].n_unique() == USERS
    assert found.height == 5 * USERS
    for user in ("g-0417", found["user"][-1]):
        asked = demo.client.send(model_calls.model_recommend("first-look.als", user, 5, where="stock > 0"))
        mine = found.filter(pl.col("user") == user).sort("position")
        assert mine["item"].to_list() == [place.item for place in asked.list]
        assert mine["score"].to_list() == pytest.approx([place.score for place in asked.list], abs=1e-5)


def test_top_users_are_the_audience_of_each_item(demo, tmp_path):
    found = export(demo, tmp_path / "x", what="top-users", n=4, where="zone = 'Z4'")
    asked = demo.client.send(model_calls.audience("first-look.als", "v-0007", 4, where="zone = 'Z4'"))
    mine = found.filter(pl.col("item") == "v-0007").sort("position")
    assert mine["user"].to_list() == [each.user for each in asked.users]


@pytest.mark.parametrize("known", [False, True])
def test_affinity_is_a_column_for_each_item(demo, tmp_path, known):
    items = ["v-0363", "v-0010"]
    found = export(demo, tmp_path / "x", what="affinity", items=items, include_known=known)
    assert found.columns == ["user", *items]
    assert found["user"].n_unique() == found.height == USERS
    row = found.row(by_predicate=pl.col("user") == "g-0417", named=True)
    asked = demo.client.send(model_calls.model_recommend("first-look.als", "g-0417", 1000, include_known=True))
    scores = {place.item: place.score for place in asked.list}
    # v-0363 is of their history
    assert (row["v-0363"] is None) == (not known)
    assert row["v-0010"] == pytest.approx(scores["v-0010"], abs=1e-5)
    if known:
        assert row["v-0363"] == pytest.approx(scores["v-0363"], abs=1e-5)


def test_affinity_of_some_users(demo, tmp_path):
    found = export(demo, tmp_path / "x", what="affinity", items=["v-0010"], where="zone = 'Z2'", format="csv")
    zones = pl.read_csv(Path(__file__).parents[2] / "src/gleaner/demo/data/growers.csv.gz").filter(
        pl.col("zone") == "Z2"
    )
    assert 0 < found.height <= zones.height
    assert set(found["user"]) <= set(zones["grower"])


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        ({"what": "affinity", "items": ["v-0010", "nothing"]}, "does not know item 'nothing'"),
        ({"what": "top-items", "where": "colour = 'red'"}, "there is no column 'colour'"),
        ({"what": "top-users", "where": "stock > 0"}, "there is no column 'stock'; there are: id, zone"),
    ],
)
def test_what_does_not_fit_is_refused_before_any_work(demo, asked, says):
    with pytest.raises(RefusedError, match=says):
        demo.client.send(export_calls.export(ExportRequest(model="first-look.als", **asked)))


def test_items_are_for_affinity_and_for_it_alone():
    for asked in ({"what": "affinity"}, {"what": "top-items", "items": ["a"]}):
        with pytest.raises(ValueError, match="items are the columns of affinity"):
            ExportRequest(model="m", **asked)
    with pytest.raises(ValueError, match="an item called 'user' cannot be a column"):
        ExportRequest(model="m", what="affinity", items=["user"])
    with pytest.raises(ValueError, match="an item is named twice"):
        ExportRequest(model="m", what="affinity", items=["a", "a"])


def test_the_commands_write_what_the_name_says(demo, tmp_path):
    at = {"GLEANER_URL": demo.url}
    for name, read in (("a.csv", pl.read_csv), ("b.parquet", pl.read_parquet), ("c.jsonl", pl.read_ndjson)):
        out = tmp_path / name
        code, said, _ = call("export", "top-items", "--model", "first-look.als", "-n", "3", "--out", str(out), **at)
        assert (code, f"{3 * USERS:,} rows of top-items" in said) == (0, True)
        assert read(out).height == 3 * USERS
    code, _, err = call("export", "top-items", "--model", "first-look.als", "--out", str(tmp_path / "a.csv"), **at)
    assert (code, "is there already" in err) == (2, True)
    code, _, err = call("export", "top-items", "--model", "first-look.als", "--out", str(tmp_path / "a.xls"), **at)
    assert (code, "--out must end in .parquet, .csv, .ndjson, .jsonl, and a.xls does not" in err) == (2, True)
    code, _, err = call("model", "all", "first-look.als", "--out", str(tmp_path / "all.csv"), **at)
    assert (code, "is a Parquet file and all.csv is not" in err) == (2, True)
    assert {each.name for each in tmp_path.iterdir()} == {"a.csv", "b.parquet", "c.jsonl"}
