"""Models that look at columns of the item and user tables: contests with and without them, training, release."""

from __future__ import annotations

import pytest

from commands import call
from gleaner.client import RefusedError, contest_calls, model_calls
from gleaner.wire.contests.choosing import ReleaseRequest
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.models.training import TrainRequest

FILE = """\
contest: columns
data: seeds@1
prepare: {kinds: {save: 3, request: 5}, min_user: 3, min_item: 3}
rank: {at: [10], metrics: [ndcg], decide_by: ndcg@10}
contenders:
  - item_content: {item_columns: [family, traits]}
    without: [features.family]
  - feature_sum: {rank: 4, iterations: {choose: [2, 3]}, loss: logistic}
    as: sums
    without: [features, features.users, features.zone]
tune: {attempts: 2}
"""


@pytest.fixture(scope="module")
def run(demo):
    return demo.run_contest(FILE)


def test_leaving_columns_out_is_a_paired_difference(run):
    of = {each.contender: each for each in run.standings}
    whole = of["sums"].params
    assert (whole["item_columns"], whole["user_columns"]) == (None, None)
    bare = of["sums-without-features"].params
    assert (bare["item_columns"], bare["user_columns"], bare["iterations"]) == ([], [], whole["iterations"])
    left = of["sums-without-features-zone"].params
    assert left["user_columns"] == ["plot", "experience_years", "interests"]
    assert {"family", "traits", "description"} < set(left["item_columns"])
    assert of["sums-without-features-users"].params["user_columns"] == []
    assert of["item_content-without-features-family"].params["item_columns"] == ["traits"]
    ablations = {each.lacks: each for each in run.comparison.ablations}
    assert set(ablations) == {"features", "features.users", "features.zone", "features.family"}
    for each in ablations.values():
        gap = of[each.contender].figure("ndcg@10").mean - of[each.without].figure("ndcg@10").mean
        assert each.difference == pytest.approx(gap)
        assert each.low <= each.difference <= each.high
        # a fit with other columns is another fit
        assert of[each.contender].figure("ndcg@10").mean != of[each.without].figure("ndcg@10").mean


def test_a_model_without_columns_is_released_without_them(demo, run):
    request = ReleaseRequest(contender="sums-without-features-zone", name="no-zone")
    job = demo.client.wait(demo.client.send(contest_calls.release(run.name, request)).id)
    card = demo.client.send(model_calls.model(job.result["model"]))
    assert card.params["user_columns"] == ["plot", "experience_years", "interests"]
    assert card.trained_on == "everything"


def test_a_trained_model_answers_and_explains(demo, run):
    request = TrainRequest(data="seeds@1", family="item_content", params={"item_columns": ["traits"]}, name="by-traits")
    name = demo.client.wait(demo.client.send(model_calls.train_model(request)).id).result["model"]
    answer = demo.client.send(model_calls.model_recommend(name, "g-0417", 5))
    assert len(answer.list) == 5
    first = answer.list[0].item
    code, out, _ = call("model", "explain", name, "--user", "g-0417", "--item", first, GLEANER_URL=demo.url)
    assert code == 0
    assert "value * weight" in out


@pytest.mark.parametrize(
    ("old", "new", "line", "says"),
    [
        ("[family, traits]", "[famly]", 6, "there is no column 'famly'; did you mean 'family'?"),
        ("[features.family]", "[features.famly]", 7, "item_content without 'features.famly': there is no column 'famly'"),
        ("[features.family]", "[features]", 7, "item_content is nothing without features; leave out one column"),
        ("loss: logistic}", "loss: logistic, user_columns: zone}", 8, "user_columns must be a list of column names"),
        ("contenders:", "contenders:\n  - als: {}\n    without: [features]", 7, "als chooses no columns, so none can be"),
    ],
)  # fmt: skip
def test_columns_that_are_not_there_are_told_with_their_line(demo, old, new, line, says):
    assert old in FILE
    problems = demo.client.send(contest_calls.check_contest(FileRequest(file=FILE.replace(old, new, 1)))).problems
    assert any(says in each.message for each in problems), problems
    assert next(each.line for each in problems if says in each.message) == line


def test_training_on_a_column_that_is_not_there_is_refused(demo):
    request = TrainRequest(data="seeds@1", family="feature_sum", params={"user_columns": ["colour"]})
    with pytest.raises(RefusedError, match="there is no column 'colour'; there are: zone, plot, experience_years"):
        demo.client.send(model_calls.train_model(request))
