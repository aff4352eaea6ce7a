"""Columns of the interaction through the service: imported, learned from, asked about, served."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest

from gleaner.client import RefusedError, calls, contest_calls, model_calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.imports import Roles
from gleaner.wire.models.values import Pair

CONTEST = """contest: tasted
data: tasted
prepare: {use: values}
split: {by: rows, test: 0.15, validation: 0.15}
rank: {metrics: [rmse], decide_by: rmse}
contenders:
  - fm_values: {rank: 4, iterations: 40, samples: 10}
    without: [features.context]
seed: 1
"""
SHELF = """shelf: tasted
title: By the place
candidates: [{model: tasted.fm_values}]
fallback: [{model: tasted.popular}]
"""


def tastings() -> pl.DataFrame:
    """Ratings that depend on what was tasted where."""
    draw = np.random.default_rng(4)
    user, item = np.nonzero(draw.random((80, 30)) < 0.5)
    place = draw.integers(0, 2, len(user))
    rating = 3 + draw.normal(size=(30, 2))[item, place] + 0.3 * draw.normal(size=len(user))
    return pl.DataFrame(
        {
            "user": [f"u{n}" for n in user],
            "item": [f"i{n}" for n in item],
            "place": [("field", "kitchen")[n] for n in place],
            "stars": np.clip(rating, 1, 5),
        }
    )


@pytest.fixture(scope="module")
def tasted(stack):
    stack.add("tasted", tastings().write_csv(), Roles(user="user", item="item", value="stars", context=["place"]))
    return stack.run_contest(CONTEST)


def test_a_contest_says_what_the_context_adds(tasted):
    [ablation] = tasted.comparison.ablations
    assert (ablation.lacks, ablation.verdict) == ("features.context", "helps")
    of = {each.contender: each for each in tasted.standings}
    assert of["fm_values-without-features-context"].params["context_columns"] == []
    # the places move ratings by a deviation of one, and only one of the two knows of them
    assert of["fm_values"].figure("rmse").mean < 0.6 * of["fm_values-without-features-context"].figure("rmse").mean


def test_values_are_those_of_the_context_that_is_given(stack, tasted):
    truth = tastings().group_by("item", "place").agg(pl.col("stars").mean())
    apart = truth.pivot(on="place", index="item", values="stars").with_columns(gap=pl.col("kitchen") - pl.col("field"))
    item = apart.sort("gap")["item"][-1]
    pairs = [Pair(user="u3", item=item, context={"place": place}) for place in ("field", "kitchen")]
    low, high = stack.client.send(model_calls.rate("tasted.fm_values", [*pairs])).ratings
    assert high.value - low.value > 1
    card = stack.client.send(model_calls.model("tasted.fm_values"))
    assert card.columns == {"context_columns": ["place"]}


@pytest.mark.parametrize(
    ("model", "context", "says"),
    [
        ("fm_values", {"plase": "field"}, "fm_values does not look at context 'plase'; it looks at: place"),
        ("mean_value", {"place": "field"}, "mean_value does not look at context 'place'; it looks at none"),
    ],
)
def test_a_context_that_the_model_does_not_look_at_is_refused(stack, tasted, model, context, says):
    with pytest.raises(RefusedError, match=says):
        stack.client.send(model_calls.rate(f"tasted.{model}", [Pair(user="u3", item="i4", context=context)]))


def test_a_column_that_is_not_kept_is_named_in_the_file(stack, tasted):
    file = CONTEST.replace("samples: 10", "samples: 10, context_columns: [plase]")
    check = stack.client.send(contest_calls.check_contest(FileRequest(file=file)))
    assert any("there is no column 'plase'; did you mean 'place'?" in each.message for each in check.problems)


def test_a_shelf_lists_for_the_context_of_the_request(stack, tasted):
    stack.client.send(calls.publish_shelf(FileRequest(file=SHELF)))
    lists = {}
    for place in ("field", "kitchen"):
        answer = stack.client.send(calls.recommend("tasted", user="u3", n=30, context={"place": place}))
        items = [each.item for each in answer.list]
        pairs = [Pair(user="u3", item=item, context={"place": place}) for item in items]
        values = [each.value for each in stack.client.send(model_calls.rate("tasted.fm_values", pairs)).ratings]
        # in the order of what the model predicts there; clipped to the scale, some are equal
        assert values == sorted(values, reverse=True)
        lists[place] = items
    assert lists["field"] != lists["kitchen"]
    assert set(lists["field"]) == set(lists["kitchen"])


def test_what_a_request_leaves_out_is_counted(stack, tasted):
    stack.client.send(calls.publish_shelf(FileRequest(file=SHELF.replace("shelf: tasted", "shelf: tasted-counted"))))

    def counted() -> float:
        name = 'gleaner_absent_context_total{column="place",shelf="tasted-counted"}'
        lines = [line for line in stack.http.get("/metrics").text.splitlines() if line.startswith(name)]
        return float(lines[0].split()[1]) if lines else 0.0

    for context, more in ({}, 1), ({"place": "field"}, 0), ({}, 1):
        before = counted()
        stack.client.send(calls.recommend("tasted-counted", user="u3", n=3, context=context))
        assert counted() - before == more
    with_nothing = stack.client.send(calls.recommend("tasted-counted", user="u3", n=30))
    pairs = [Pair(user="u3", item=each.item) for each in with_nothing.list]
    values = [each.value for each in stack.client.send(model_calls.rate("tasted.fm_values", pairs)).ratings]
    # as the model answers where nothing is known of the place
    assert values == sorted(values, reverse=True)
