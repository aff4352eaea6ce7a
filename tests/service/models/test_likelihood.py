"""Chances that users take items: calibrated in a contest, answered, kept with a model that is fitted again or exported."""

from __future__ import annotations

import math

import pytest
from pydantic import ValidationError

from commands import call
from gleaner.client import RefusedError, contest_calls, model_calls
from gleaner.wire.contests.choosing import ReleaseRequest
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.models.cards import Likelihood
from gleaner.wire.models.values import Pair

FILE = """\
contest: chances
data: seeds@1
prepare: {kinds: {save: 3, request: 5}, min_user: 3, min_item: 3}
split: {by: time, test: 0.1, validation: 0.1}
rank: {at: [10], metrics: [ndcg, brier, log_loss], decide_by: ndcg@10}
contenders:
  - popular
  - logistic: {rank: 8, iterations: 20}
"""


@pytest.fixture(scope="module")
def run(demo):
    return demo.run_contest(FILE)


def test_chances_are_figures_of_a_contest_and_told_on_the_card(demo, run):
    of = {each.contender: each for each in run.standings}
    card = demo.client.send(model_calls.model("chances.logistic"))
    assert of["popular"].figure("brier") is None
    for name in ("brier", "log_loss"):
        figure = of["logistic"].figure(name)
        assert figure.low < figure.mean < figure.high
        assert figure.mean == pytest.approx(getattr(card.likelihood, name), rel=1e-6)
    base = card.likelihood.base_rate
    # better than to say the base rate of every pair: what it is of the test part, nobody knew before
    assert card.likelihood.log_loss < -(base * math.log(base) + (1 - base) * math.log(1 - base))
    bins = card.likelihood.reliability
    assert [each.said for each in bins] == sorted(each.said for each in bins)
    taken = sum(each.pairs * each.taken for each in bins)
    assert taken / sum(each.pairs for each in bins) == pytest.approx(base, rel=1e-6)
    assert demo.client.send(model_calls.model("chances.popular")).likelihood is None


def test_a_run_and_its_report_tell_how_far_chances_came_true(demo, run):
    card = demo.client.send(model_calls.model("chances.logistic"))
    report = demo.client.send(contest_calls.likelihoods(run.name))
    assert [(each.contender, each.likelihood) for each in report.contenders] == [("logistic", card.likelihood)]
    assert demo.client.send(contest_calls.likelihoods("first-look")).contenders == []
    plot = demo.client.send(contest_calls.plot(run.name, "reliability")).decode()
    assert "chance said" in plot
    page = demo.client.send(contest_calls.report(run.name, "markdown")).decode()
    assert f"| logistic | {card.likelihood.brier:.5f} | {card.likelihood.log_loss:.5f} |" in page


def test_a_chance_is_answered_wherever_it_is_asked_for(demo, run):
    card = demo.client.send(model_calls.model("chances.logistic"))
    listed = demo.client.send(model_calls.model_recommend("chances.logistic", "g-0417", n=3)).list
    pairs = [Pair(user="g-0417", item=place.item) for place in listed] + [Pair(user="nobody", item=listed[0].item)]
    ratings = demo.client.send(model_calls.rate("chances.logistic", pairs))
    assert (ratings.answers, ratings.scale) == ("likelihood", (0, 1))
    for place, rating in zip(listed, ratings.ratings, strict=False):
        straight = card.likelihood.slope * place.score + card.likelihood.intercept
        # a score is a product in 32 bits
        assert rating.likelihood == pytest.approx(1 / (1 + math.exp(-straight)), rel=1e-4)
        assert place.likelihood == rating.likelihood
    assert ratings.ratings[-1].likelihood is None
    assert ratings.ratings[-1].reason == "unknown user"
    code, out, _ = call(
        "model", "rate", "chances.logistic", "--user", "g-0417", "--item", listed[0].item, GLEANER_URL=demo.url
    )
    assert code == 0
    assert f"{listed[0].likelihood:.2%}" in out
    code, out, _ = call("model", "show", "chances.logistic", GLEANER_URL=demo.url)
    assert f"Brier {card.likelihood.brier:.5f}" in out


def test_a_model_that_is_fitted_again_keeps_the_calibration(demo, run):
    job = demo.client.send(contest_calls.release(run.name, ReleaseRequest(contender="logistic", name="again")))
    name = demo.client.wait(job.id).result["model"]
    kept = demo.client.send(model_calls.model("chances.logistic")).likelihood
    assert demo.client.send(model_calls.model(name)).likelihood == kept


def test_models_without_chances_say_so(demo, run):
    with pytest.raises(RefusedError, match=r"chances\.popular@\d \(popular\) ranks: it predicts no values"):
        demo.client.send(model_calls.rate("chances.popular", [Pair(user="g-0417", item="v-0544")]))


@pytest.mark.parametrize("slope", ["NaN", "Infinity", "1e999"])
def test_a_card_whose_calibration_is_no_number_is_refused(slope):
    rest = '"intercept": 0, "brier": 0.1, "log_loss": 0.1, "base_rate": 0.1, "reliability": []'
    assert Likelihood.model_validate_json(f'{{"slope": 2, {rest}}}').slope == 2
    with pytest.raises(ValidationError, match="slope"):
        Likelihood.model_validate_json(f'{{"slope": {slope}, {rest}}}')


@pytest.mark.parametrize(
    ("old", "new", "mistake"),
    [
        ("decide_by: ndcg@10", "decide_by: brier", "brier cannot decide"),
        ("validation: 0.1", "validation: 0", "split.validation is 0"),
        ("{by: time, test: 0.1, validation: 0.1}", "{by: users}", "a split by users holds them out whole"),
    ],
)
def test_what_chances_need_is_checked(demo, old, new, mistake):
    with pytest.raises(RefusedError) as refused:
        demo.client.send(contest_calls.run_contest(FileRequest(file=FILE.replace(old, new))))
    assert mistake in str(refused.value)
