"""Contests: every metric, what beats what, segments, checks, drafts and the schema of the file."""

from __future__ import annotations

import json
import re

import jsonschema
import polars as pl
import pytest
from ruamel.yaml import YAML

from gleaner.client import NotFoundError, RefusedError, contest_calls
from gleaner.core.metrics.catalogue import METRICS, labels
from gleaner.demo.full import shipped
from gleaner.wire.contests import FileRequest, RankSpec
from gleaner.wire.imports import Roles

AT = [5, 10]
RANKED = [name for name, metric in METRICS.items() if metric.needs != "values"]
EVERY = f"""\
contest: every-metric
data: seeds@1
prepare: {{kinds: {{view: 1, save: 3, request: 5}}, min_user: 5, min_item: 5}}
rank:
  at: {AT}
  metrics: [{", ".join(RANKED)}]
  decide_by: ndcg@10
  content: [family, traits]
  categories: family
contenders: [popular, random, item_knn, {{als: {{rank: 16, iterations: 8}}}}]
"""


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
    assert any("Not shown to beat popular: random." in line for line in run.comparison.summary)
    against = {standing.contender: standing.against_popular for standing in run.standings}
    assert against["random"].verdict == "worse"
    assert against["als"].verdict == "better"
    for pair in pairs.values():
        assert pair.low <= pair.difference <= pair.high
        assert pair.p_holm >= pair.p
        assert pair.verdict == "cannot tell" or pair.p_holm < 0.05


def test_another_metric_is_compared_when_asked(demo, run):
    found = demo.client.send(contest_calls.comparison(run.name, "percentile_rank"))
    # less is better here: the leader has the least
    means = {standing.contender: standing.figure("percentile_rank").mean for standing in run.standings}
    assert found.leader == min(means, key=means.__getitem__)
    random = next(pair for pair in found.pairs if {pair.first, pair.second} == {"random", "als"})
    assert (random.verdict == "worse") == (random.first == "random")
    with pytest.raises(RefusedError, match="coverage@10 is one figure for all users together"):
        demo.client.send(contest_calls.comparison(run.name, "coverage@10"))
    with pytest.raises(RefusedError, match="has no metric 'ndcg@7'; it has: ndcg@5, ndcg@10"):
        demo.client.send(contest_calls.comparison(run.name, "ndcg@7"))
    with pytest.raises(NotFoundError):
        demo.client.send(contest_calls.comparison("nope", None))


def test_segments_of_users_add_up_to_all_users(demo, run):
    whole = {standing.contender: standing.figure("ndcg@10").mean for standing in run.standings}
    counted = next(part for part in run.parts if part.part == "test")
    for by in ("history", "user:zone"):
        found = demo.client.send(contest_calls.segments(run.name, by))
        assert found.of == "users"
        assert sum(each.users for each in found.segments) == counted.users_counted
        assert sum(each.pairs for each in found.segments) == counted.pairs_counted
        for label, mean in whole.items():
            total = sum(each.users * figure_of(each, label).mean for each in found.segments)
            assert total / counted.users_counted == pytest.approx(mean, abs=1e-6)


def figure_of(segment, label):
    return next(figure for figure in segment.figures if figure.contender == label)


def test_new_users_are_counted_and_where_users_are_held_out_scored(demo, run):
    found = demo.client.send(contest_calls.segments(run.name, "seen"))
    test = next(part for part in run.parts if part.part == "test")
    assert [(each.name, each.users) for each in found.segments] == [
        ("seen in training", test.users_counted), ("new to training", test.unseen_users)
    ]  # fmt: skip
    assert found.segments[1].figures == []
    whole = {each.contender: each.figure("ndcg@10").mean for each in run.standings}
    assert {each.contender: each.mean for each in found.segments[0].figures} == pytest.approx(whole)
    new = demo.run_contest(
        "contest: newcomers\ndata: seeds@1\nprepare: {kinds: {save: 1}}\nsplit: {by: users}\ncontenders: [item_knn]\n"
    )
    [segment] = demo.client.send(contest_calls.segments(new.name, "seen")).segments
    assert segment.name == "new to training"
    assert len(segment.figures) == 2


def test_segments_of_items_add_up_to_all_items(demo, run):
    counted = next(part for part in run.parts if part.part == "test")
    for by in ("popularity", "time", "item:family"):
        found = demo.client.send(contest_calls.segments(run.name, by, "recall@10", bins=3))
        assert found.of == "items"
        assert sum(each.pairs for each in found.segments) == counted.pairs_counted
    by_popularity = demo.client.send(contest_calls.segments(run.name, "popularity", "recall@10", bins=3)).segments
    means = [figure_of(each, "popular").mean for each in by_popularity]
    # popularity finds nothing that few have, and most of what it finds many have
    assert means[0] == 0 < means[-1]
    assert len(by_popularity) == 3


def test_an_item_of_several_categories_counts_in_each(demo, run):
    found = demo.client.send(contest_calls.segments(run.name, "item:traits", "recall@10"))
    counted = next(part for part in run.parts if part.part == "test")
    assert sum(each.pairs for each in found.segments) > counted.pairs_counted
    names = [each.name for each in found.segments]
    assert "frost-hardy" in names
    assert names[-1] == "others"


@pytest.mark.parametrize(
    ("by", "metric", "says"),
    [
        ("colour", None, "by must be history, popularity, time, seen, user:COLUMN or item:COLUMN, not 'colour'"),
        ("user:shoe", None, "the user table of seeds@1 has no column 'shoe'; it has: zone, plot"),
        (
            "popularity",
            "auc",
            "parts of the items can be told by ndcg, recall, precision, map, mrr, hit at k, not by auc",
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


BAD = """\
contest: Bad Name
data: seeds@1
prepare:
  kinds: {view: 1, sold: 2}
  min_user: none
split: {by: time, test: 2}
rank:
  at: [5, 100000]
  metrics: [ndcg, magic, calibration]
  decide_by: ndcg@5
  content: [colour]
contenders:
  - als: {rank: 0}
  - nosuch
  - biases
extra: 1
"""


def test_every_mistake_is_told_at_once_with_its_line(demo):
    found = demo.client.send(contest_calls.check_contest(FileRequest(file=BAD, name="bad.yaml")))
    told = [(each.line, each.field) for each in found.problems]
    assert told == [
        (1, "contest"), (4, "prepare.kinds.sold"), (5, "prepare.min_user"), (6, "split.test"), (8, "rank.at"),
        (9, "rank.metrics.1"), (9, "rank.metrics.2"), (11, "rank.content"), (13, "contenders.0.als.rank"),
        (14, "contenders.1"), (15, "contenders.2"), (16, "extra"),
    ]  # fmt: skip
    assert found.contenders == []


def test_one_mistake_hides_no_other(demo):
    text = BAD.replace("decide_by: ndcg@5", "decide_by: ndcg@7").replace(
        "{rank: 0}", "{rank: {choose: []}, rnk: 3, regularisation: low}"
    )
    found = demo.client.send(contest_calls.check_contest(FileRequest(file=text, name="bad.yaml")))
    told = {each.field: (each.line, each.message) for each in found.problems}
    assert told["rank.decide_by"] == (
        10,
        "'ndcg@7' is not among the metrics asked for: "
        + ", ".join(f"{name}@{k}" for name in ("ndcg", "magic", "calibration") for k in (5, 100000)),
    )
    assert {"rank.metrics.1", "rank.metrics.2", "rank.at"} <= told.keys()
    assert {"rank", "rnk", "regularisation"} == {name.rpartition(".")[2] for name in told if ".als." in name}


CONTENDERS = """\
contest: names
data: seeds@1
contenders:
  - als: {rank: 0}
    as: Bad Name
  - als: {rank: 4}
    tune: {attempts: 0}
    without: [kinds.nope]
  - als
  - {als: {}, bpr: {}}
  - 7
  - nosuch
  - item_knn: many
"""


def test_one_contender_that_cannot_be_read_hides_no_other(demo):
    found = demo.client.send(contest_calls.check_contest(FileRequest(file=CONTENDERS)))
    told = [(each.line, each.field, each.message.partition(";")[0].partition(",")[0]) for each in found.problems]
    assert told == [
        (4, "contenders.0.label", "a name has lower-case letters"),
        (4, "contenders.0.als.rank", "rank must be a whole number of at least 1 and at most 4096"),
        (7, "contenders.1.tune.attempts", "Input should be greater than or equal to 1"),
        (8, "contenders.1.without", "als without 'kinds.nope': seeds@1 has no kind 'nope'"),
        (9, "contenders.2.label", "two contenders are called 'als'"),
        (10, "contenders.3", "a contender names one model family"),
        (11, "contenders.4", "a contender is a model family"),
        (12, "contenders.5", "there is no model family 'nosuch'"),
        (13, "contenders.6", "the parameters of item_knn must be a mapping"),
    ]


def test_what_decides_need_not_be_said_where_the_usual_is_not_asked_for(demo):
    text = "contest: quiet\ndata: seeds@1\nrank: {at: [20], metrics: [recall, ndcg]}\ncontenders: [popular]\n"
    assert demo.client.send(contest_calls.check_contest(FileRequest(file=text))).problems == []
    assert RankSpec(at=[20], metrics=["recall", "ndcg"]).decide_by == "recall@20"
    assert RankSpec(metrics=["auc", "ndcg"]).decide_by == "ndcg@10"
    assert RankSpec(metrics=["auc"]).decide_by == "auc"


def test_a_metric_that_has_no_better_way_cannot_decide(demo):
    file = EVERY.replace("decide_by: ndcg@10", "decide_by: popularity@10")
    [problem] = demo.client.send(contest_calls.check_contest(FileRequest(file=file))).problems
    assert problem.message == "popularity cannot decide: neither more nor less of it is better"


def test_a_right_file_is_estimated(demo):
    found = demo.client.send(contest_calls.check_contest(FileRequest(file=EVERY)))
    assert found.problems == []
    assert [each.contender for each in found.contenders] == ["popular", "random", "item_knn", "als"]
    assert {each.fits for each in found.contenders} == {2}
    assert found.seconds > sum(each.seconds for each in found.contenders)
    assert found.memory_mb == max(each.memory_mb for each in found.contenders)


def test_a_drafted_file_fits_its_dataset(demo):
    drafted = demo.client.send(contest_calls.draft_contest("seeds", 1)).file
    assert demo.client.send(contest_calls.check_contest(FileRequest(file=drafted))).problems == []
    tree = YAML(typ="safe").load(drafted)
    assert tree["prepare"]["kinds"] == {"view": 1, "save": 2, "request": 2, "grown": 3}
    assert (tree["split"]["by"], tree["rank"]["categories"]) == ("time", "family")
    rated = "user,item,value\n" + "".join(
        f"g{u},v{(u * i) % 17},{1 + (u + i) % 5}\n" for u in range(30) for i in range(9)
    )
    demo.add("rated-draft", rated, Roles(user="user", item="item", value="value"))
    drafted = demo.client.send(contest_calls.draft_contest("rated-draft", 1)).file
    assert demo.client.send(contest_calls.check_contest(FileRequest(file=drafted))).problems == []
    run = demo.run_contest(drafted)
    assert {standing.family for standing in run.standings} >= {"popular", "als_values", "item_linear"}


def test_the_schema_takes_what_the_service_takes(demo):
    schema = demo.http.get("/v1/schemas/contest").json()
    validator = jsonschema.Draft202012Validator(schema)
    yaml = YAML(typ="safe")
    for text in (EVERY, shipped("first-look.yaml"), demo.client.send(contest_calls.draft_contest("seeds", 1)).file):
        assert list(validator.iter_errors(yaml.load(text))) == []
    wrong = [
        ("als: {rank: 16", "als: {rankk: 16"),
        ("[popular", "[nosuch"),
        ("random", "als: {rank: big}, as: x"),
        ("ndcg,", "magic,"),
    ]
    for old, new in wrong:
        changed = EVERY.replace(old, new, 1)
        assert changed != EVERY
        assert list(validator.iter_errors(yaml.load(changed))), new


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
        assert squared**0.5 == pytest.approx(rmse, rel=1e-5)
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
    found = demo.client.send(contest_calls.check_contest(FileRequest(file=file)))
    assert any(says in each.message and each.field == "rank.metrics.0" for each in found.problems)


def test_a_run_without_predicted_values_says_what_to_ask_for(demo, run):
    with pytest.raises(RefusedError, match="no contender that predicts values"):
        demo.client.send(contest_calls.run_values(run.name))


def test_the_command_shows_all_of_it(demo, run, tmp_path):
    compared = demo.gleaner("contest", "compare", run.name)
    assert re.search(r"als - popular .* better\b", compared.stdout)
    assert "Not shown to beat popular: random." in compared.stdout
    by = demo.gleaner("contest", "show", run.name, "--by", "user:zone", "--metric", "recall@10")
    assert "recall@10 on the test part by user:zone" in by.stdout
    assert json.loads(demo.gleaner("contest", "show", run.name, "--by", "history", "--json").stdout)["of"] == "users"
    assert demo.gleaner("contest", "show", run.name, "--metric", "recall@10").returncode == 2
    bad = tmp_path / "bad.yaml"
    bad.write_text(BAD)
    checked = demo.gleaner("contest", "check", str(bad))
    assert checked.returncode == 1
    assert "bad.yaml:13: contenders.0.als.rank: rank must be a whole number" in checked.stdout
    assert "bad.yaml:1: contest: a name has lower-case letters, digits, - and _" in checked.stdout
    assert "12 mistakes" in checked.stdout
    out = tmp_path / "new.yaml"
    assert demo.gleaner("contest", "new", "seeds", "--out", str(out)).returncode == 0
    assert "nothing wrong; on seeds@1 about" in demo.gleaner("contest", "check", str(out)).stdout
    again = demo.gleaner("contest", "new", "seeds", "--out", str(out))
    assert (again.returncode, "is there already" in again.stderr) == (2, True)
    assert demo.gleaner("contest", "new", "nope").returncode == 1


def test_figures_per_user_hold_where_each_item_stood(demo, run):
    [(digest,)] = demo.sql(
        "SELECT s.per_user_file FROM standings s JOIN runs r ON r.id = s.run_id WHERE r.contest = %s AND r.number = %s AND s.contender = 'als'",
        run.contest, run.number,
    )  # fmt: skip
    path = next(path for path in demo.files() if digest in path)
    frame = pl.read_parquet(demo.home / path).filter(part="test")
    hits = frame["places"].list.eval((pl.element() > 0) & (pl.element() <= 10)).list.sum()
    found = (hits / frame["items"].list.len()).mean()
    als = next(standing for standing in run.standings if standing.contender == "als")
    assert found == pytest.approx(als.figure("recall@10").mean, abs=1e-6)
