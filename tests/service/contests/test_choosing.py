"""From a run to the contender that is shipped, and to the report that says why."""

from __future__ import annotations

import math
import re
from html.parser import HTMLParser
from pathlib import Path

import polars as pl
import pytest

from commands import call
from gleaner.client import NotFoundError, RefusedError, calls, contest_calls, model_calls
from gleaner.wire.contests.choosing import ReleaseRequest

FILE = """\
contest: to-ship
data: seeds@1
prepare: {kinds: {view: 1, save: 3, request: 5}, min_user: 5, min_item: 5}
rank: {at: [5, 10], metrics: [ndcg, recall, coverage, novelty], decide_by: ndcg@10}
contenders:
  - popular
  - random
  - item_linear
  - als: {rank: {choose: [4, 8, 16]}, iterations: 5}
    without: [kinds.view]
tune: {attempts: 3}
curves: {every: 1, amounts: [0.5]}
"""


@pytest.fixture(scope="module")
def run(demo):
    return demo.run_contest(FILE)


def choice(demo, run, against=None):
    return demo.client.send(contest_calls.choice(run.name, against))


def test_the_best_on_validation_is_chosen(demo, run):
    actual = choice(demo, run)
    figures = {each.contender: each.figure("ndcg@10", "validation").mean for each in run.standings}
    assert actual.chosen == run.winner == max(figures, key=figures.get)
    assert actual.part == "validation"
    assert [point.figure for point in actual.points] == sorted(figures.values(), reverse=True)
    assert [point.contender for point in actual.points if point.on_frontier] == [run.winner]
    level = {point.contender for point in actual.points if point.level}
    assert run.winner in level
    assert not {"popular", "random"} & level
    assert f"{run.winner} is best on ndcg@10 of the validation part" in actual.why


def test_of_those_that_cannot_be_told_apart_the_best_in_something_else_is_chosen(demo, run):
    actual = choice(demo, run, "coverage@10")
    level = [point for point in actual.points if point.level]
    assert actual.chosen == max(level, key=lambda point: point.against).contender
    # random covers most and is no candidate, though on the frontier
    random = next(point for point in actual.points if point.contender == "random")
    assert random.on_frontier
    assert random.against == max(point.against for point in actual.points)
    assert actual.chosen != "random"
    cheapest = choice(demo, run, "fit_seconds")
    assert cheapest.against_less_is_better
    level = [point for point in cheapest.points if point.level]
    assert cheapest.chosen == min(level, key=lambda point: point.against).contender
    assert choice(demo, run, "list_ms").points[0].against > 0
    with pytest.raises(
        RefusedError, match=r"against must be one of .*, coverage@10, .*list_ms, peak_memory_mb, not 'x'"
    ):
        choice(demo, run, "x")


def test_a_card_says_what_the_fit_chose(demo, run):
    card = demo.client.send(model_calls.model("to-ship.item_linear"))
    assert card.params["regularisation"] is None
    # a step of the ladder of half powers of ten
    assert 2 * math.log10(card.chosen["regularisation"]) == pytest.approx(
        round(2 * math.log10(card.chosen["regularisation"])), abs=1e-9
    )
    assert demo.client.send(model_calls.model("to-ship.als")).chosen == {}
    code, out, _ = call("model", "show", "to-ship.item_linear", GLEANER_URL=demo.url)
    assert code == 0
    assert f"regularisation {card.chosen['regularisation']:.4g}" in out
    assert "regularisation None" not in out
    assert card.provenance == f"the training and validation parts of seeds@1, in contest run {run.name}"
    assert "fitted on" in out
    report = demo.client.send(contest_calls.report(run.name, "markdown")).decode()
    assert "regularisation None" not in report


def test_the_chosen_one_is_fitted_on_every_row(demo, run):
    job = demo.client.wait(demo.client.send(contest_calls.release(run.name, ReleaseRequest(name="shipped"))).id)
    card = demo.client.send(model_calls.model(job.result["model"]))
    before = demo.client.send(model_calls.model(f"to-ship.{run.winner}"))
    assert card.name == "shipped@1"
    assert (card.family, card.params, card.prepare) == (before.family, before.params, before.prepare)
    assert card.trained_on == "everything"
    assert card.provenance == f"all rows of seeds@1, with the settings of {before.name}"
    assert card.cells > before.cells
    code, _, output = call("contest", "release", run.name, "--contender", "popular", GLEANER_URL=demo.url)
    assert code == 0, output
    assert demo.client.send(model_calls.model("to-ship.popular@2")).trained_on == "everything"
    with pytest.raises(RefusedError, match="has no contender 'nobody' that is done; there are: "):
        demo.client.send(contest_calls.release(run.name, ReleaseRequest(contender="nobody")))
    code, _, output = call(
        "contest", "release", run.name, "--contender", "popular", "--against", "x", GLEANER_URL=demo.url
    )
    assert code == 2


class Page(HTMLParser):
    """What a page would fetch, and its text."""

    def __init__(self) -> None:
        super().__init__()
        self.fetched: list[str] = []
        self.ids: list[str] = []
        self.text: list[str] = []

    def handle_starttag(self, tag, attributes):
        given = dict(attributes)
        self.fetched += [
            given[name] for name in ("src", "href", "xlink:href") if name in given and not given[name].startswith("#")
        ]
        self.fetched += [tag] if tag in ("script", "link", "iframe", "object") else []
        self.ids += [given["id"]] if "id" in given else []

    def handle_data(self, data):
        self.text.append(data)


@pytest.fixture(scope="module")
def answer(demo, run):
    return demo.http.get(f"/v1/contests/{run.name}/report")


def test_the_report_is_one_file_that_fetches_nothing_and_says_what_to_ship(demo, run, answer):
    assert answer.headers["content-type"] == "text/html; charset=utf-8"
    assert answer.headers["content-security-policy"].startswith("default-src 'none'")
    page = Page()
    page.feed(answer.text)
    assert page.fetched == []
    assert len(page.ids) == len(set(page.ids))
    text = " ".join(" ".join(page.text).split())
    assert f"Ship {run.winner}." in text
    for line in run.comparison.summary:
        assert line in text
    data = demo.http.get("/v1/datasets/seeds/versions/1").json()
    for part in (data["content_hash"], "contest: to-ship", "kinds.view", run.definitions["candidates"]):
        assert part in text
    figure = next(each for each in run.standings if each.contender == run.winner).figure("ndcg@10")
    assert f"{figure.mean:.4f} (95 % of resamples of users: {figure.low:.4f} to {figure.high:.4f})" in text


@pytest.fixture(scope="module")
def folder(demo, run, tmp_path_factory) -> Path:
    out = tmp_path_factory.mktemp("reports") / "report"
    code, output, _ = call("contest", "report", run.name, "--out", str(out), GLEANER_URL=demo.url)
    assert code == 0
    assert "files" in output
    return out


def test_the_folder_has_every_plot_and_table(demo, run, folder):
    parts = demo.client.send(contest_calls.report_parts(run.name))
    assert {"leaderboard", "by-cutoff", "frontier", "curve-by-amount", "curve-by-iteration", "losses", "tuning-als",
            "rank-als", "by-history", "by-popularity"} == set(parts.plots)  # fmt: skip
    out = folder
    names = {str(path.relative_to(out)) for path in out.rglob("*") if path.is_file()}
    assert names == {
        "report.html", "report.md",
        *[f"plots/{name}.{form}" for name in parts.plots for form in ("svg", "png")],
        *[f"tables/{name}.{form}" for name in parts.tables for form in ("csv", "parquet")],
    }  # fmt: skip
    text = (out / "report.md").read_text()
    assert {f"plots/{name}.svg" for name in parts.plots} == set(re.findall(r"\]\((plots/[^)]+)\)", text))
    assert all((out / f"plots/{name}.png").read_bytes()[:4] == b"\x89PNG" for name in parts.plots)
    board = pl.read_parquet(out / "tables/leaderboard.parquet")
    assert board["contender"].to_list() == [each.contender for each in run.standings]
    assert board["ndcg@10"].to_list() == [each.figure("ndcg@10").mean for each in run.standings]
    assert pl.read_csv(out / "tables/figures.csv").height == sum(len(each.figures) for each in run.standings)
    assert pl.read_csv(out / "tables/attempts.csv")["number"].to_list() == [1, 2, 3]


def test_the_same_run_gives_the_same_report(demo, run, answer, folder):
    # drawn by itself, and with the rest of a folder
    assert answer.content == (folder / "report.html").read_bytes()
    drawn = demo.client.send(contest_calls.plot(run.name, "leaderboard", "png"))
    assert drawn == (folder / "plots/leaderboard.png").read_bytes()


def test_markdown_has_its_plots_beside_it(demo, run, tmp_path):
    code, _, output = call("contest", "report", run.name, "--out", str(tmp_path / "r.md"), GLEANER_URL=demo.url)
    assert code == 0, output
    assert (tmp_path / "plots" / "leaderboard.svg").exists()
    assert not (tmp_path / "tables").exists()
    for out, says in (("r.md", "is there already"), ("r.pdf", "must end in .html or .md"), ("no/r.html", "no folder")):
        code, _, output = call("contest", "report", run.name, "--out", str(tmp_path / out), GLEANER_URL=demo.url)
        assert code == 2
        assert says in output


def test_what_is_not_there_is_said(demo, run):
    with pytest.raises(NotFoundError, match="has no plot 'x'; there are: leaderboard"):
        demo.client.send(contest_calls.plot(run.name, "x"))
    with pytest.raises(NotFoundError, match="there is no table 'x'; there are: leaderboard"):
        demo.client.send(contest_calls.report_table(run.name, "x"))
    assert demo.client.send(contest_calls.plot(run.name, "leaderboard")).startswith(b"<?xml")
    assert demo.client.send(contest_calls.report_table(run.name, "pairs")).startswith(b"first,second,difference")
    assert demo.client.send(contest_calls.report(run.name, "markdown")).startswith(b"# to-ship@1: which one to ship")


def test_a_run_that_has_not_ended_has_no_winner(demo):
    waiting = demo.queue_contest(FILE.replace("to-ship", "still-running").replace("iterations: 5", "iterations: 1000"))
    with pytest.raises(RefusedError, match="there is no winner yet"):
        choice(demo, waiting)
    with pytest.raises(RefusedError, match="there is nothing to report yet"):
        demo.client.send(contest_calls.report(waiting.name))
    demo.client.send(calls.cancel_job(waiting.job))
