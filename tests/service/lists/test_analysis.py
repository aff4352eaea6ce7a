"""`lists analyse` on lists of our own and of a file."""

from __future__ import annotations

import io

import polars as pl
import pytest

from commands import call
from gleaner.client import NotFoundError, RefusedError, data_calls, job_calls, list_calls
from gleaner.core.metrics.surprise import DEFINITIONS
from gleaner.wire.analysis import AnalyseRequest


def analysed(demo, **fields):
    job = demo.client.wait(demo.client.send(list_calls.analyse_lists(AnalyseRequest(**fields))).id)
    return job, demo.client.send(list_calls.list_analysis(job.id))


@pytest.fixture(scope="module")
def beside(demo):
    return analysed(demo, model="first-look.als", beside="first-look", history_bins=3, popularity_bins=5, bias_bins=2)


def test_every_definition_is_summed_up_and_cut(beside):
    _, analysis = beside
    assert [each.name for each in analysis.definitions] == list(DEFINITIONS)
    assert (analysis.relevance, analysis.left_out, analysis.users) == (True, {}, 897)
    for each in analysis.definitions:
        assert len(each.by_place) == 10
        assert 0 <= each.normal.least <= each.normal.half <= each.normal.most <= 1
        parts = (each.by_history, each.by_popularity, each.by_bias)
        assert [len(part.bins) for part in parts] == [3, 5, 2]
        assert sum(part.n for part in each.by_history.bins) == 897
        assert sum(part.n for part in each.by_popularity.bins) == 8970
        whole = sum(part.n * part.mean for part in each.by_history.bins) / 897
        assert whole == pytest.approx(each.normal.mean)
    of = {each.name: each for each in analysis.definitions}
    # self-information is a function of popularity, and lists go from the known to the less known
    assert of["vargas_popularity"].by_popularity.rho == pytest.approx(-1)
    assert of["vargas_popularity"].by_place[0] < of["vargas_popularity"].by_place[-1]
    # the more a user has, the nearer something of it is
    assert of["kaminskas_content"].by_history.rho < -0.5


def test_agreement_is_symmetric_and_the_indexes_explain(beside):
    _, analysis = beside
    for square in (analysis.kendall, analysis.spearman):
        assert all(square[i][j] == square[j][i] for i in range(7) for j in range(7))
        assert all(square[i][i] == 1 for i in range(7))
    assert [each.method for each in analysis.indexes] == ["PCA", "kernel PCA (rbf)", "SVD"]
    for each in analysis.indexes:
        assert sum(each.explained) <= 1 + 1e-9
        assert each.explained == sorted(each.explained, reverse=True)
        assert set(each.rho) == set(DEFINITIONS)


def test_figures_by_user_come_as_a_file(demo, beside):
    job, analysis = beside
    frame = pl.read_parquet(io.BytesIO(demo.client.send(job_calls.job_file(job.id))))
    assert frame.columns == ["user", "history", "bias", *DEFINITIONS, "pca", "kernel_pca", "svd"]
    assert frame.height == 897
    for each in analysis.definitions:
        assert frame[each.name].mean() == pytest.approx(each.normal.mean)


def test_a_file_and_the_model_it_came_from_say_the_same(demo, beside, tmp_path):
    path = tmp_path / "als.parquet"
    code, _, output = call("model", "all", "first-look.als", "--out", str(path), GLEANER_URL=demo.url)
    assert code == 0, output
    upload = demo.client.send(data_calls.upload(path)).upload
    _, analysis = analysed(demo, upload=upload, file="als.parquet", beside="first-look")
    same = {each.name: each.normal.mean for each in beside[1].definitions}
    assert {each.name: each.normal.mean for each in analysis.definitions} == pytest.approx(same)
    assert analysis.findings.users_scored == 897


def test_without_a_test_part_every_item_counts_as_relevant(demo):
    _, analysis = analysed(demo, model="first-look.popular", expected="popular", expected_n=10, content=["family"])
    assert not analysis.relevance
    of = {each.name: each for each in analysis.definitions}
    # the primitive lists are these lists, but for the order of items that as many have
    assert of["ge"].raw.most == of["adamopoulos"].raw.most == 0
    assert of["murakami"].raw.most < 0.02
    assert analysis.kendall[0][1] is None
    assert analysis.content == ["family"]


def test_the_command_shows_all_of_it(demo, tmp_path):
    out = tmp_path / "users.parquet"
    code, output, wrong = call(
        "lists", "analyse", "--model", "first-look.als", "--kernel", "cosine", "--out", str(out), GLEANER_URL=demo.url
    )
    assert code == 0, wrong
    for part in ("75 %", "by place", "by history size", "by item popularity", "by user bias", "agreement",
                 "one index: rho with", "kernel PCA (cosine)", "Kaminskas, Bridge 2014"):  # fmt: skip
        assert part in output
    assert pl.read_parquet(out).height > 1000


def test_what_was_made_is_listed_and_shown_again(demo, beside):
    job, analysis = beside
    page = demo.client.send(list_calls.list_work(limit=1))
    later = demo.client.send(list_calls.list_work(after=page.next, limit=500)).items
    listed = [*page.items, *later]
    assert [each.job for each in listed] == sorted((each.job for each in listed), reverse=True)
    assert len({each.job for each in listed}) == len(listed)
    [own] = [each for each in listed if each.job == job.id]
    assert (own.work, own.label, own.data) == ("analysis", analysis.label, "seeds@1")
    assert (own.beside, own.users, own.ended_at) == ("first-look@1", 897, job.finished_at)
    for data in ("seeds", "seeds@1"):
        assert own in demo.client.send(list_calls.list_work(data, limit=500)).items
    demo.add("seeds-without-lists", "user,item,kind,value,time\ng,v,save,,2026-01-01\n")
    assert demo.client.send(list_calls.list_work("seeds-without-lists")).items == []
    with pytest.raises(NotFoundError, match="nosuch"):
        demo.client.send(list_calls.list_work("nosuch"))


def test_commands_list_and_show_it_again(demo, beside):
    job, analysis = beside
    code, output, wrong = call("lists", "list", "--data", "seeds@1", "-n", "500", GLEANER_URL=demo.url)
    assert code == 0, wrong
    [row] = [line.split() for line in output.splitlines() if line.split()[:1] == [str(job.id)]]
    assert row[1:6] == ["analysis", "first-look.als@1", "seeds@1", "first-look@1", "897"]
    code, output, wrong = call("lists", "show", str(job.id), "--json", GLEANER_URL=demo.url)
    assert code == 0, wrong
    assert type(analysis).model_validate_json(output) == analysis
    code, output, _ = call("lists", "show", str(job.id), GLEANER_URL=demo.url)
    assert code == 0
    assert "one index: rho with" in output
    imported = next(each for each in demo.client.send(job_calls.list_jobs(limit=500)).items if each.kind == "import")
    code, _, wrong = call("lists", "show", str(imported.id), GLEANER_URL=demo.url)
    assert code == 2
    assert f"job {imported.id} (import) neither scored nor analysed lists" in wrong


@pytest.mark.parametrize(
    ("fields", "says"),
    [
        ({}, "name a model or an upload"),
        ({"model": "first-look.als", "expected": "als"}, "nothing personal: expected can be popular"),
        ({"model": "first-look.als", "data": "seeds@1"}, "leave data out"),
        ({"model": "first-look.als", "beside": "nosuch"}, "no contest run 'nosuch'"),
        ({"upload": "u-0000000000000000", "data": "seeds@1"}, "there is no upload"),
    ],
)
def test_what_cannot_be_analysed_is_refused(demo, fields, says):
    with pytest.raises((RefusedError, NotFoundError), match=says):
        analysed(demo, **fields)
