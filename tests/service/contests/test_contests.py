"""Contests: every metric, what beats what, segments, predicted values."""

from __future__ import annotations

import json
import re

import polars as pl
import pytest

from contest_files import AT, EVERY, RANKED
from gleaner.client import NotFoundError, RefusedError, contest_calls
from gleaner.core.metrics.catalogue import METRICS, labels
from gleaner.wire.contests.contest import FileRequest
from tolerances import KEPT, SINGLE


@pytest.fixture(scope="module")
def run(demo):
    return demo.run_contest(EVERY)


def test_every_metric_comes_out_within_its_bounds(run):
    wanted = labels(RANKED, AT)
    for standing in run.standings:
        figures = {figure.metric: figure for figure in standing.figures if figure.part == "test"}
        assert list(figures) == wanted
        for label, figure in figures.items():
            per_user = METRICS[label.partition("@")[0]].per_user
            assert (figure.low is not None) == per_user
            if per_user:
                assert figure.low <= figure.mean <= figure.high
            if not label.startswith(("popularity", "novelty", "calibration")):
                assert 0 <= figure.mean <= 1, label


def test_random_and_popular_are_what_they_must_be(run):
    of = {standing.contender: standing for standing in run.standings}
    # chance: three deviations of a mean over these users
    assert of["random"].figure("auc").mean == pytest.approx(0.5, abs=0.03)
    assert of["random"].figure("percentile_rank").mean == pytest.approx(0.5, abs=0.03)
    assert of["random"].figure("coverage@10").mean > 0.99
    most = max(of.values(), key=lambda each: each.figure("popularity@10").mean)
    assert most.contender == "popular"
    least = min(of.values(), key=lambda each: each.figure("personalisation@10").mean)
    assert least.contender == "popular"


def test_the_leaderboard_says_what_can_be_told_and_what_cannot(run):
    pairs = {(pair.first, pair.second): pair for pair in run.comparison.pairs}
    assert len(pairs) == 6
    assert run.comparison.leader == run.standings[0].contender
    assert any("popular: random." in line for line in run.comparison.summary)
    against = {standing.contender: standing.against_popular for standing in run.standings}
    assert against["random"].verdict == "worse"
    assert against["als"].verdict == "better"
    for pair in pairs.values():
        assert pair.low <= pair.difference <= pair.high
        assert pair.p_holm >= pair.p
        assert pair.verdict == "cannot tell" or pair.p_holm < 0.05


def test_another_metric_is_compared_when_asked(demo, run):
    comparison = demo.client.send(contest_calls.comparison(run.name, "percentile_rank"))
    # less is better here: the leader has the least
    means = {standing.contender: standing.figure("percentile_rank").mean for standing in run.standings}
    assert comparison.leader == min(means, key=means.__getitem__)
    random = next(pair for pair in comparison.pairs if {pair.first, pair.second} == {"random", "als"})
    assert (random.verdict == "worse") == (random.first == "random")
    with pytest.raises(RefusedError, match="coverage@10 is one figure for all users together"):
        demo.client.send(contest_calls.comparison(run.name, "coverage@10"))
    with pytest.raises(RefusedError, match=r"has no metric 'ndcg@7'; did you mean 'ndcg@5'\?"):
        demo.client.send(contest_calls.comparison(run.name, "ndcg@7"))
    with pytest.raises(NotFoundError):
        demo.client.send(contest_calls.comparison("nope", None))


def test_segments_of_users_add_up_to_all_users(demo, run):
    whole = {standing.contender: standing.figure("ndcg@10").mean for standing in run.standings}
    counted = next(part for part in run.parts if part.part == "test")
    for by in ("history", "user:zone"):
        segments = demo.client.send(contest_calls.segments(run.name, by))
        assert segments.of == "users"
        assert sum(each.users for each in segments.segments) == counted.users_counted
        assert sum(each.pairs for each in segments.segments) == counted.pairs_counted
        for label, mean in whole.items():
            total = sum(each.users * figure_of(each, label).mean for each in segments.segments)
            assert total / counted.users_counted == pytest.approx(mean, abs=KEPT)


def figure_of(segment, label):
    return next(figure for figure in segment.figures if figure.contender == label)


def test_new_users_are_counted_and_where_users_are_held_out_scored(demo, run):
    segments = demo.client.send(contest_calls.segments(run.name, "seen"))
    test = next(part for part in run.parts if part.part == "test")
    assert [(each.name, each.users) for each in segments.segments] == [
        ("seen in training", test.users_counted), ("new to training", test.unseen_users)
    ]  # fmt: skip
    assert segments.segments[1].figures == []
    whole = {each.contender: each.figure("ndcg@10").mean for each in run.standings}
    assert {each.contender: each.mean for each in segments.segments[0].figures} == pytest.approx(whole)
    new = demo.run_contest(
        "contest: newcomers\ndata: seeds@1\nprepare: {kinds: {save: 1}}\nsplit: {by: users}\ncontenders: [item_knn]\n"
    )
    [segment] = demo.client.send(contest_calls.segments(new.name, "seen")).segments
    assert segment.name == "new to training"
    assert len(segment.figures) == 2


def test_segments_of_items_add_up_to_all_items(demo, run):
    counted = next(part for part in run.parts if part.part == "test")
    for by in ("popularity", "time", "item:family"):
        segments = demo.client.send(contest_calls.segments(run.name, by, "recall@10", bins=3))
        assert segments.of == "items"
        assert sum(each.pairs for each in segments.segments) == counted.pairs_counted
    by_popularity = demo.client.send(contest_calls.segments(run.name, "popularity", "recall@10", bins=3)).segments
    means = [figure_of(each, "popular").mean for each in by_popularity]
    # popularity finds nothing that few have, and most of what it finds many have
    assert means[0] == 0 < means[-1]
    assert len(by_popularity) == 3


def test_an_item_of_several_categories_counts_in_each(demo, run):
    segments = demo.client.send(contest_calls.segments(run.name, "item:traits", "recall@10"))
    counted = next(part for part in run.parts if part.part == "test")
    assert sum(each.pairs for each in segments.segments) > counted.pairs_counted
    names = [each.name for each in segments.segments]
    assert "frost-hardy" in names
    assert names[-1] == "others"


@pytest.mark.parametrize(
    ("by", "metric", "says"),
    [
        (
            "colour",
            None,
            "by must be history, popularity, time, seen, seen_items, user:COLUMN or item:COLUMN, not 'colour'",
        ),
        ("user:shoe", None, "the user table of seeds@1 has no column 'shoe'; there are: zone, plot"),
        (
            "popularity",
            "auc",
            "parts of the items can be scored by ndcg, recall, precision, map, mrr, hit at k, not by auc",
        ),
        ("history", "gini@5", "gini@5 is one figure for all users together, so it has no segments"),
    ],
)
def test_segments_that_cannot_be_are_refused(demo, run, by, metric, says):
    with pytest.raises(RefusedError, match=says):
        demo.client.send(contest_calls.segments(run.name, by, metric))


def test_thresholds_narrow_what_is_relevant(demo):
    file = EVERY.replace("every-metric", "strict").replace("decide_by", "relevant: {at_least: 5}\n  decide_by")
    run = demo.run_contest(file.replace(", ".join(RANKED), "ndcg"))
    test = next(part for part in run.parts if part.part == "test")
    assert test.not_relevant > 0
    assert "with a value of at least 5" in run.definitions["relevant"]


VALUES = """\
contest: stars
data: seeds@1
prepare: {kinds: {grown: 1}, use: values, merge: latest}
split: {by: rows, test: 0.2, validation: 0.1}
rank: {at: [10], metrics: [rmse, mae, r2, ndcg], decide_by: rmse, relevant: {at_least: 4}}
contenders: [biases, als_values, item_linear]
"""


@pytest.fixture(scope="module")
def rated(demo):
    return demo.run_contest(VALUES)


def test_values_and_lists_are_scored_on_one_split(demo, rated):
    of = {standing.contender: standing for standing in rated.standings}
    # both baselines are there, and the mean value is what others are told against
    assert set(of) == {"popular", "mean_value", "biases", "als_values", "item_linear"}
    assert of["mean_value"].against_popular.verdict == "baseline"
    assert of["item_linear"].figure("rmse") is None
    assert of["item_linear"].figure("ndcg@10") is not None
    for label in ("mean_value", "biases", "als_values"):
        rmse = of[label].figure("rmse")
        assert rmse.low < rmse.mean < rmse.high
        assert of[label].figure("mae").mean < rmse.mean < 2
    assert of["biases"].figure("rmse").mean < of["mean_value"].figure("rmse").mean
    assert of["biases"].against_popular.verdict == "better"
    assert of["biases"].figure("r2").mean > 0
    assert rated.winner in ("biases", "als_values")
    # less is better: the board begins with the least, and those without the figure stand at its end
    order = [standing.figure("rmse").mean for standing in rated.standings[:3]]
    assert order == sorted(order)
    assert {standing.contender for standing in rated.standings[3:]} == {"popular", "item_linear"}
    assert {each.first for each in rated.comparison.pairs} | {each.second for each in rated.comparison.pairs} == {
        "mean_value", "biases", "als_values",
    }  # fmt: skip


def test_predicted_against_actual_by_bin(demo, rated):
    report = demo.client.send(contest_calls.run_values(rated.name))
    assert {each.contender for each in report.contenders} == {"mean_value", "biases", "als_values"}
    for each in report.contenders:
        for bins in (each.by_actual, each.by_predicted, each.by_strictness):
            assert sum(row.n for row in bins) == each.n
        assert [row.at for row in each.by_actual] == [1, 2, 3, 4, 5]
        rmse = next(s for s in rated.standings if s.contender == each.contender).figure("rmse").mean
        squared = sum(row.n * row.rmse**2 for row in each.by_actual) / each.n
        assert squared**0.5 == pytest.approx(rmse, rel=SINGLE)
    shown = demo.gleaner("contest", "show", rated.name, "--values").stdout
    assert "predicted values on the test part" in shown
    assert "rmse, by the user's own mean in training" in shown
    assert "95 %, ┊ mean value" in demo.gleaner("contest", "show", rated.name).stdout
    by = demo.client.send(contest_calls.segments(rated.name, "history", "rmse"))
    assert {figure.contender for figure in by.segments[0].figures} == {"mean_value", "biases", "als_values"}


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("use: values, ", "", "rmse scores predicted values: prepare with `use: values`"),
        ("use: values, ", "use: values, half_life_days: 90, ", "half_life_days would shrink old ones: leave it out"),
        ("{grown: 1}", "{grown: 2}", "weights of kinds would change them: let each be 1"),
        (
            "merge: latest",
            "transform: [log1p]",
            "rmse scores values as they were given, and prepare.transform changes them",
        ),
        ("{by: rows, test: 0.2, validation: 0.1}", "{by: users}", "which nobody predicts for users held out whole"),
    ],
)
def test_values_that_cannot_be_scored_are_refused(demo, old, new, says):
    file = VALUES.replace(old, new)
    check = demo.client.send(contest_calls.check_contest(FileRequest(file=file)))
    assert any(says in each.message and each.field == "rank.metrics.0" for each in check.problems)


def test_a_run_without_predicted_values_says_what_to_ask_for(demo, run):
    with pytest.raises(RefusedError, match="no contender that predicts values"):
        demo.client.send(contest_calls.run_values(run.name))


def test_the_command_shows_all_of_it(demo, run):
    compared = demo.gleaner("contest", "compare", run.name)
    assert re.search(r"als - popular .* better\b", compared.stdout)
    assert "popular: random." in compared.stdout
    by = demo.gleaner("contest", "show", run.name, "--by", "user:zone", "--metric", "recall@10")
    assert "recall@10 on the test part by user:zone" in by.stdout
    assert json.loads(demo.gleaner("contest", "show", run.name, "--by", "history", "--json").stdout)["of"] == "users"
    assert demo.gleaner("contest", "show", run.name, "--metric", "recall@10").returncode == 2


def test_figures_per_user_hold_where_each_item_stood(demo, run):
    [(digest,)] = demo.sql(
        "SELECT s.per_user_file FROM standings s JOIN runs r ON r.id = s.run_id WHERE r.contest = %s AND r.number = %s AND s.contender = 'als'",
        run.contest, run.number,
    )  # fmt: skip
    path = next(path for path in demo.files() if digest in path)
    frame = pl.read_parquet(demo.home / path).filter(part="test")
    hits = frame["places"].list.eval((pl.element() > 0) & (pl.element() <= 10)).list.sum()
    actual = (hits / frame["items"].list.len()).mean()
    als = next(standing for standing in run.standings if standing.contender == "als")
    assert actual == pytest.approx(als.figure("recall@10").mean, abs=KEPT)
