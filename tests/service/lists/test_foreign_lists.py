"""Lists made elsewhere, scored beside our own contenders."""

from __future__ import annotations

import re

import polars as pl
import pytest

from commands import call
from gleaner.client import JobFailedError, NotFoundError, RefusedError, data_calls, list_calls
from gleaner.wire.lists import ListColumns, ListScores, ScoreListsRequest
from tolerances import KEPT

CONTEST = """\
contest: for-lists
data: seeds@1
prepare: {kinds: {save: 3, request: 5}, min_user: 5, min_item: 5}
rank: {at: [5, 10], metrics: [ndcg, recall, mrr, novelty, coverage, auc], decide_by: ndcg@10}
contenders: [popular, item_knn]
"""


@pytest.fixture(scope="module")
def run(demo):
    return demo.run_contest(CONTEST)


@pytest.fixture(scope="module")
def own(demo, run, tmp_path_factory):
    """The lists of our own item_knn for everyone, as a file: user, position, item, score."""
    path = tmp_path_factory.mktemp("lists") / "own.parquet"
    code, _, output = call("model", "all", "for-lists.item_knn", "-n", "10", "--out", str(path), GLEANER_URL=demo.url)
    assert code == 0, output
    return path


def scored(demo, path, **more):
    upload = demo.client.send(data_calls.upload(path)).upload
    job = demo.client.send(
        list_calls.score_lists(ScoreListsRequest(upload=upload, file=path.name, **({"label": path.stem} | more)))
    )
    demo.client.wait(job.id)
    return demo.client.send(list_calls.list_scores(job.id))


def means(figures) -> dict[str, float]:
    return {figure.metric: figure.mean for figure in figures}


def test_our_own_lists_have_our_own_figures(demo, run, own):
    scores = scored(demo, own, beside=run.name)
    standing = next(each for each in run.standings if each.contender == "item_knn")
    mine = means(scores.figures)
    assert set(mine) == {f"{name}@{k}" for name in ("ndcg", "recall", "mrr", "novelty", "coverage") for k in (5, 10)}
    for name, mean in mine.items():
        assert mean == pytest.approx(standing.figure(name).mean, abs=KEPT), name
    assert scores.left_out == ["auc"]
    assert scores.findings.format == "Parquet"
    assert (scores.findings.repeats, scores.findings.known_rows, scores.findings.unknown_items) == (0, 0, 0)
    assert {each.contender for each in scores.contenders} == {"popular", "item_knn"}
    pairs = {(pair.first, pair.second): pair for pair in scores.comparison.pairs}
    assert pairs["own", "item_knn"].difference == pytest.approx(0, abs=KEPT)
    assert pairs["own", "item_knn"].verdict == "cannot tell"
    assert pairs["own", "popular"].verdict == "better"


def test_a_run_file_and_a_csv_say_the_same(demo, run, own, tmp_path):
    lists = pl.read_parquet(own)
    lines = [f"{user}  Q0 {item}\t{place} {1 - place / 100} x" for user, place, item, _ in lists.iter_rows()]
    (tmp_path / "own.run").write_text("\n".join(lines) + "\n")
    lists.select(who="user", what="item", at="position").write_csv(tmp_path / "own.csv")
    columns = ListColumns(user="who", item="what", place="at")
    scores = [
        scored(demo, tmp_path / "own.run", beside=run.name),
        scored(demo, tmp_path / "own.csv", beside=run.name, columns=columns, label="by-csv"),
    ]
    assert [each.findings.format for each in scores] == ["six-column run", "CSV"]
    assert means(scores[0].figures) == means(scores[1].figures)
    assert scores[0].findings.uneven_places == 0


def test_users_without_a_list_score_nothing(demo, run, own, tmp_path):
    lists = pl.read_parquet(own)
    half = lists["user"].unique(maintain_order=True)[::2]
    lists.filter(pl.col("user").is_in(half.implode())).write_parquet(tmp_path / "half.parquet")
    whole, scores = scored(demo, own, beside=run.name), scored(demo, tmp_path / "half.parquet", beside=run.name)
    assert scores.users == whole.users
    assert scores.findings.users_without_list == whole.users - scores.findings.users_scored > 0
    assert 0 < means(scores.figures)["recall@10"] < means(whole.figures)["recall@10"]


def test_a_dataset_divided_by_a_contest_file_is_the_same_test(demo, run, own, tmp_path):
    (tmp_path / "how.yaml").write_text(CONTEST)
    at = {"GLEANER_URL": demo.url}
    code, out, output = call(
        "lists", "evaluate", str(own), "--data", "seeds@1", "--contest", str(tmp_path / "how.yaml"), "--json", **at
    )
    assert code == 0, output
    actual = ListScores.model_validate_json(out)
    assert means(actual.figures) == means(scored(demo, own, beside=run.name).figures)
    assert actual.comparison is None
    code, out, _ = call("lists", "evaluate", str(own), "--beside", run.name, "--name", "theirs", **at)
    assert code == 0
    assert "Cannot tell theirs from item_knn at this size: +0.0000" in out
    assert "lists alone do not give: auc" in out


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "the file is empty"),
        ("user,thing\nu,a\n", "there is no column 'item' for the item; there are: user, thing"),
        ("user,item,place\nu,a,first\n", "row 1: place is missing or no number"),
        ("user,item\nnobody,a\n", "no user of lists.csv has a relevant item in the test part"),
        ("u Q0 a 1 0.5 x\nu Q0 a 2\n", "line 2 has 4 fields; a run file has six"),
        ("PAR1 and no more", "cannot be read as Parquet"),
    ],
)
def test_files_that_are_no_lists_are_refused(demo, run, tmp_path, text, says):
    (tmp_path / "lists.csv").write_text(text)
    with pytest.raises(JobFailedError, match=re.escape(says)):
        scored(demo, tmp_path / "lists.csv", beside=run.name)


@pytest.mark.parametrize(
    ("more", "says"),
    [
        ({}, "name a run to score the lists beside, or the data"),
        ({"beside": "for-lists", "data": "nosuch@1"}, "nosuch"),
        ({"beside": "no-run"}, "there is no contest run 'no-run'"),
        ({"data": "seeds@1", "rank": {"metrics": ["magic", "ndcg"]}}, "magic"),
    ],
)
def test_requests_that_cannot_be_are_refused(demo, run, own, more, says):
    with pytest.raises((RefusedError, NotFoundError), match=says):
        scored(demo, own, **more)
    with pytest.raises(NotFoundError):
        demo.client.send(list_calls.list_scores(run.job))


def test_a_label_that_a_contender_has_is_refused(demo, run, own):
    with pytest.raises(JobFailedError, match="has a contender called 'popular'"):
        scored(demo, own, beside=run.name, label="popular")
