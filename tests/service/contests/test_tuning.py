"""Contests that tune, leave parts of the preparation out, and draw learning curves."""

from __future__ import annotations

import pytest

from commands import call
from gleaner.client import NotFoundError, RefusedError, contest_calls, model_calls
from gleaner.wire.contests.contest import FileRequest
from tolerances import KEPT

FILE = """\
contest: {name}
data: seeds@1
prepare: {{kinds: {{view: 1, save: 3, request: 5}}, half_life_days: 90, transform: [log1p], min_user: 5, min_item: 5}}
rank: {{at: [10], metrics: [ndcg, recall, coverage], decide_by: ndcg@10}}
contenders:
  - item_linear: {{regularisation: {{between: [1, 3000], log: true}}}}
  - als: {{rank: {{choose: [4, 16]}}, regularisation: {{between: [0.003, 3], log: true}}, iterations: 6}}
    tune: {{attempts: 6}}
    without: [kinds.view, half_life_days, transform.log1p, kinds]
  - {{item_knn: {{}}, as: recent, prepare: {{window: {{last_days: 60}}, min_user: 2}}}}
tune: {{search: {search}, attempts: 3}}
curves: {{every: 2, amounts: [0.3, 0.6]}}
"""

SMALL = """\
contest: {name}
data: seeds@1
prepare: {{kinds: {{save: 3, request: 5}}, min_user: 5, min_item: 5}}
rank: {{at: [10], metrics: [ndcg, coverage], decide_by: ndcg@10}}
contenders:
  - als: {{rank: {{choose: [4, 8]}}, regularisation: {{between: [0.003, 3], log: true}}, iterations: 4}}
    tune: {{attempts: 6}}
tune: {{search: {search}}}
"""


@pytest.fixture(scope="module")
def run(demo):
    return demo.run_contest(FILE.format(name="tuned", search="bayesian"))


@pytest.fixture(scope="module")
def tunings(demo, run):
    return {each.contender: each for each in demo.client.send(contest_calls.tuning(run.name))}


def test_the_best_attempt_on_validation_is_what_the_contender_has(run, tunings):
    assert set(tunings) == {"item_linear", "als"}
    of = {standing.contender: standing for standing in run.standings}
    for label, attempts in (("item_linear", 3), ("als", 6)):
        actual, standing = tunings[label], of[label]
        assert [each.number for each in actual.attempts] == list(range(1, attempts + 1))
        done = [each for each in actual.attempts if each.state == "done"]
        best = max(done, key=lambda each: each.value)
        assert (actual.result.chosen, actual.result.stopped_by) == (best.number, "attempts")
        assert {name: standing.params[name] for name in actual.ranges} == best.chosen
        # the same setting, fitted on training again and scored on validation again: the same figure
        assert standing.figure("ndcg@10", "validation").mean == pytest.approx(best.value, abs=KEPT)
        assert set(best.figures) == {"ndcg@10", "recall@10", "coverage@10"}
    assert of["recent"].tuning is None


def test_attempts_tell_losses_and_iterations(tunings):
    for each in tunings["als"].attempts:
        if each.state == "done":
            assert [done.iteration for done in each.rounds] == list(range(1, 7))
            assert each.training_loss == each.rounds[-1].losses["training"]
            assert each.validation_loss == each.rounds[-1].losses["validation"]
        else:
            assert each.state == "pruned"
            assert "below the median of earlier attempts" in each.message
            assert len(each.rounds) < 6


def test_the_same_contest_has_the_same_attempts_and_figures(demo):
    runs = [demo.run_contest(SMALL.format(name=name, search="bayesian")) for name in ("once", "again")]
    by_run = []
    for each in runs:
        [tuning] = demo.client.send(contest_calls.tuning(each.name))
        attempts = [(one.chosen, one.state, one.value) for one in tuning.attempts]
        by_run.append((attempts, [(one.contender, one.params, one.figures) for one in each.standings]))
    assert by_run[0] == by_run[1]


def test_what_is_left_out_is_a_paired_difference(run):
    of = {standing.contender: standing for standing in run.standings}
    ablations = {each.lacks: each for each in run.comparison.ablations}
    assert list(ablations) == ["kinds.view", "half_life_days", "transform.log1p", "kinds"]
    for lacks, each in ablations.items():
        assert (each.contender, each.without) == ("als", f"als-without-{lacks.rpartition('.')[2]}")
        gap = of["als"].figure("ndcg@10").mean - of[each.without].figure("ndcg@10").mean
        assert each.difference == pytest.approx(gap, abs=KEPT)
        assert each.low <= each.difference <= each.high
        # what was found for the whole is what the lacking one is fitted with
        assert of[each.without].params == of["als"].params
    assert of["als-without-view"].prepare.kinds == {"save": 3, "request": 5}
    # views are most of what there is: a fit without them is shown to be worse
    assert ablations["kinds.view"].verdict == "helps"


def test_own_preparations_are_scored_on_the_same_users_and_items(demo, run):
    counts = {len(standing.figures) for standing in run.standings}
    assert counts == {6}
    cards = {name: demo.client.send(model_calls.model(f"tuned.{name}")) for name in ("als", "recent", "popular")}
    assert len({(card.users, card.items) for card in cards.values()}) == 1
    assert cards["recent"].cells < cards["als"].cells == cards["popular"].cells
    assert cards["recent"].prepare["window"]["last_days"] == 60
    assert cards["recent"].prepare["half_life_days"] == 90


def test_curves_grow_with_data_and_end_at_the_figure_of_all_of_it(demo, run):
    actual = {each.contender: each for each in demo.client.send(contest_calls.curves(run.name))}
    of = {standing.contender: standing for standing in run.standings}
    assert set(actual) == set(of)
    for label, each in actual.items():
        assert [point.share for point in each.amounts] == [0.3, 0.6, 1.0]
        cells = [point.cells for point in each.amounts]
        assert cells == sorted(cells)
        # cells are drawn one by one: three deviations of so many
        assert cells[0] == pytest.approx(0.3 * cells[2], rel=0.05)
        whole = of[label].figure("ndcg@10", "validation").mean
        assert each.amounts[-1].mean == pytest.approx(whole, abs=KEPT)
    assert actual["als"].amounts[0].mean < actual["als"].amounts[-1].mean
    judged = {done.iteration: done.metrics["ndcg@10"] for done in actual["als"].rounds if done.metrics}
    assert list(judged) == [2, 4, 6]
    assert judged[6] == pytest.approx(of["als"].figure("ndcg@10", "validation").mean, abs=KEPT)


def test_metrics_that_say_the_same_agree(demo, run):
    agreement = demo.client.send(contest_calls.agreement(run.name, "als"))
    assert agreement.metrics == ["ndcg@10", "recall@10"]
    assert agreement.spearman[0][1] == agreement.spearman[1][0]
    assert 0.9 < agreement.kendall[0][1] <= 1
    with pytest.raises(RefusedError, match="has no contender 'x' that is done; there are: "):
        demo.client.send(contest_calls.agreement(run.name, "x"))


@pytest.mark.parametrize("search", ["random", "quasi_random"])
def test_other_searches(demo, search):
    run = demo.run_contest(SMALL.format(name=f"by-{search.replace('_', '-')}", search=search))
    [tuning] = demo.client.send(contest_calls.tuning(run.name))
    assert len(tuning.attempts) == 6
    assert tuning.result.search == search


def test_minutes_bound_a_search(demo):
    file = SMALL.format(name="short-time", search="random").replace("attempts: 6", "attempts: 900, minutes: 0.0001")
    [tuning] = demo.client.send(contest_calls.tuning(demo.run_contest(file).name))
    assert tuning.result.stopped_by == "minutes"
    assert len(tuning.attempts) == 1


@pytest.mark.parametrize(
    ("old", "new", "line", "says"),
    [
        ("between: [1, 3000]", "between: [3000, 1]", 6, "3000 is not below 1"),
        ("choose: [4, 16]", "choose: [4, 0]", 7, "rank must be a whole number of at least 1"),
        ("search: bayesian", "search: clever", 11, "Input should be 'bayesian', 'random', 'quasi_random' or 'grid'"),
        ("search: bayesian", "search: grid", 6, "a grid needs steps: give regularisation a `step`"),
        ("amounts: [0.3", "amounts: [1.5", 12, "every amount is a share between 0 and 1"),
        ("attempts: 6", "attempts: 0", 8, "greater than or equal to 1"),
        ("[kinds.view,", "[min_user,", 9, "als without 'min_user': what is left out can be features, features.COLUMN, members.NAME"),
        ("[kinds.view,", "[layers.deep,", 9, "als without 'layers.deep': what is left out can be features"),
        ("[kinds.view,", "[second_stage.trees,", 9, "als without 'second_stage.trees': what is left out can be"),
        ("[kinds.view,", "[layers,", 9, "without 'layers': als has none to leave out"),
        ("[kinds.view,", "[kinds.sold,", 9, "its preparation has nothing of that to leave out"),
        ("window: {last_days: 60}", "kinds: {grown: 1}", 10, "drops kind 'grown', so no contender can be trained on it"),
        ("window: {last_days: 60}", "kinds: {sold: 1}", 10, "seeds@1 has no kind 'sold'"),
        ("item_knn: {}, as: recent,", "item_knn: {}, as: recent, tune: {attempts: 3},", 10, "there is nothing to tune"),
        ("rank: {at", "split: {by: folds}\nrank: {at", 7, "folds score every row once"),
        ("rank: {at", "split: {by: rows, validation: 0}\nrank: {at", 7, "split.validation is 0"),
    ],
)  # fmt: skip
def test_mistakes_are_told_with_their_line(demo, old, new, line, says):
    file = FILE.format(name="wrong", search="bayesian")
    assert old in file
    problems = demo.client.send(contest_calls.check_contest(FileRequest(file=file.replace(old, new, 1)))).problems
    assert any(says in each.message for each in problems), problems
    assert next(each.line for each in problems if says in each.message) == line


def test_tuning_is_part_of_the_estimate(demo):
    file = FILE.format(name="wrong", search="bayesian")
    estimates = {
        each.contender: each
        for each in demo.client.send(contest_calls.check_contest(FileRequest(file=file))).contenders
    }
    # two parts, the attempts, two amounts
    assert {label: each.fits for label, each in estimates.items()} == {
        "popular": 4, "item_linear": 7, "als": 10, "recent": 4, "als-without-view": 4,
        "als-without-half_life_days": 4, "als-without-log1p": 4, "als-without-kinds": 4,
    }  # fmt: skip


def test_the_commands_show_it(demo, run):
    at = {"GLEANER_URL": demo.url}
    code, out, _ = call("contest", "show", run.name, "--tuning", **at)
    assert code == 0
    assert "item_linear" in out
    code, out, _ = call("contest", "show", run.name, "--tuning", "--contender", "als", **at)
    assert code == 0
    assert "6 attempts, scored on validation" in out
    assert "★" in out
    code, out, _ = call("contest", "show", run.name, "--curves", **at)
    assert code == 0
    assert "by share of the training cells" in out
    assert "by iteration" in out
    code, out, _ = call("contest", "compare", run.name, **at)
    assert "kinds.view" in out
    code, _, wrong = call("contest", "show", run.name, "--tuning", "--contender", "popular", **at)
    assert code == 2
    assert "tuned are: item_linear, als" in wrong
    code, _, wrong = call("contest", "show", run.name, "--tuning", "--curves", **at)
    assert "name one" in wrong


def test_a_run_that_is_not_there(demo):
    for make in (contest_calls.tuning, contest_calls.curves):
        with pytest.raises(NotFoundError):
            demo.client.send(make("nosuch"))
