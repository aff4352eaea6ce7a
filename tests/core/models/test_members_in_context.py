"""Models of models in the context that a list is asked for in: it is handed on, and the learned order looks at it."""

from __future__ import annotations

from math import log

import numpy as np
import polars as pl
import pytest

from gleaner import library
from gleaner.core.contests.parts import divide
from gleaner.core.data.ties import tie_order
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.evaluation import RankPlan, evaluate
from gleaner.core.models.base.context import takes_context
from gleaner.core.models.base.registry import build
from gleaner.core.models.second_stage.context_lifts import ContextLifts
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.ranking.topn import top_n, top_n_of_new
from gleaner.core.splits.split import Split
from gleaner.wire.shelves.shelf import RecommendRequest
from tolerances import SINGLE, SUMMED

PLACES = ["stall", "kitchen", "field"]
FM = {"fm_ranking": {"rank": 4, "iterations": 8}}
PLAN = RankPlan(["ndcg"], [5], 1)


def frame(seed: int = 3, n: int = 4000) -> pl.DataFrame:
    """What is taken depends on where, and a little on who; few take anything twice."""
    draw = np.random.default_rng(seed)
    grower, place = draw.integers(0, 600, n), draw.integers(0, 3, n)
    liked = 2.5 * draw.normal(size=(40, 3))[:, place].T + draw.normal(size=(600, 40))[grower]
    variety = (liked + draw.gumbel(size=liked.shape)).argmax(axis=1)
    return pl.DataFrame(
        {
            "grower": [f"g-{each}" for each in grower],
            "variety": [f"v-{each}" for each in variety],
            "place": [PLACES[each] for each in place],
        }
    )


@pytest.fixture(scope="module")
def stage():
    rows = library.interactions(frame(), user="grower", item="variety", context=["place"])
    rule = Split(by="rows", test=0.2, validation=0.2, seed=1)
    return divide(rows, Preparation(), rule, lambda done, message: None).stage("test")


def features_in(stage):
    return library.features(stage.train).__class__(context=("place",))


@pytest.fixture(scope="module")
def fitted(stage):
    stages = {"members": [FM, "item_knn"], "folds": 2, "rounds": 20, "candidates": 20}
    return {
        "fm_ranking": build("fm_ranking", FM["fm_ranking"]).fit(stage.train, features=features_in(stage)),
        "blend": build("blend", {"members": [FM, "popular"], "weights": [1.0, 0.0]}).fit(stage.train),
        "second_stage": build("second_stage", stages).fit(stage.train, features=features_in(stage)),
        "blind": build("second_stage", stages | {"members": ["item_knn", "popular"], "context_columns": []}).fit(
            stage.train, features=features_in(stage)
        ),
    }


def test_a_blend_lists_in_the_context_as_its_member_does(stage, fitted):
    rows, ties = stage.truth.user_rows, tie_order(stage.train.items)
    lists = {
        name: top_n(fitted[name], rows, 5, ties, exclude=stage.train, context=stage.truth.context).items
        for name in ("fm_ranking", "blend")
    }
    np.testing.assert_array_equal(lists["blend"], lists["fm_ranking"])
    plain = top_n(fitted["blend"], rows, 5, ties, exclude=stage.train).items
    assert (plain != lists["blend"]).any()
    new = {
        name: top_n_of_new(fitted[name], stage.train, rows[:9], 5, ties, context=stage.truth.context[:9]).items
        for name in ("fm_ranking", "blend")
    }
    np.testing.assert_array_equal(new["blend"], new["fm_ranking"])


def test_the_learned_order_uses_the_context(stage, fitted):
    ties = tie_order(stage.train.items)
    figures = {
        name: evaluate(model, stage.train, stage.truth, PLAN, ties).means["ndcg@5"].mean
        for name, model in fitted.items()
    }
    assert figures["second_stage"] > figures["blind"] + 0.05
    assert takes_context(fitted["blind"]) is None
    shares = fitted["second_stage"].importance()
    assert "in the same place" in shares
    assert not any("place" in name and "in the same" in name for name in fitted["blind"].importance())
    columns = fitted["second_stage"].columns(features_in(stage))
    assert columns["context_columns"] == ["place"]
    rows = stage.truth.user_rows[:3]
    again = build("second_stage", fitted["second_stage"].params()).restore(fitted["second_stage"].state(), stage.train)
    there = stage.truth.context[:3]
    np.testing.assert_array_equal(again.scores_in(rows, there), fitted["second_stage"].scores_in(rows, there))


def test_a_lift_is_counted_over_the_cells_of_a_context(stage):
    train = stage.train
    lifts = ContextLifts.of(["place"], train)
    where = pl.DataFrame({"place": ["kitchen", "nowhere", None]})
    items = np.array([0, 7, 21])
    told = lifts.of_pairs(np.repeat(np.arange(3), 3), np.tile(items, 3), where)[:, 0]
    here = (train.context["place"] == "kitchen").to_numpy()
    for at, item in enumerate(items):
        share = (train.indices == item).mean()
        expected = log(((train.indices[here] == item).sum() + 20 * share) / ((here.sum() + 20) * share))
        assert told[at] == pytest.approx(expected, abs=SINGLE)
    # of a place that training never saw nothing is known
    np.testing.assert_allclose(told[3:], 0, atol=SINGLE)


def test_chances_of_pairs_are_each_in_their_context(stage, fitted):
    model, user = fitted["second_stage"], stage.truth.user_rows[0]
    lacks = np.setdiff1d(np.arange(len(stage.train.items)), stage.train.history(int(user))[0])[:3].astype(np.int32)
    items = np.concatenate([lacks, lacks])
    context = pl.DataFrame({"place": ["kitchen"] * 3 + ["field"] * 3})
    odds = model.log_odds(np.full(6, user), items, context)
    for at, place in ((slice(0, 3), "kitchen"), (slice(3, 6), "field")):
        scores = model.scores_in(np.array([user], np.int32), pl.DataFrame({"place": [place]}))[0]
        np.testing.assert_allclose(odds[at], scores[lacks], rtol=SUMMED)
    assert (odds[:3] != odds[3:]).any()


def test_a_shelf_hands_the_context_to_the_members(stage, fitted):
    models = [library.fit("popular", stage.train)]
    models += [type(models[0])(name, fitted[name], stage.train) for name in ("blend", "second_stage", "fm_ranking")]
    users = stage.train.users.take(stage.truth.user_rows[:4])
    for name in ("blend", "second_stage"):
        alone = library.shelf(
            {"shelf": "a", "candidates": [{"model": name}], "fallback": [{"model": "popular"}]}, models
        )
        staged = library.shelf(
            {
                "shelf": "b", "candidates": [{"model": "fm_ranking"}, {"model": "popular"}], "score": {"model": name},
                "fallback": [{"model": "popular"}],
            }, models,
        )  # fmt: skip
        for shelf in (alone, staged):
            lists = {
                place: [shelf.recommend(user, n=5, context={"place": place})["item"].to_list() for user in users]
                for place in PLACES
            }
            assert lists["stall"] != lists["kitchen"]
        rows = stage.train.users.rows(users)
        ties = tie_order(stage.train.items)
        expected = top_n(
            fitted[name], rows, 5, ties, exclude=stage.train, context=pl.DataFrame({"place": ["field"] * 4})
        ).items
        listed = [alone.recommend(user, n=5, context={"place": "field"})["item"].to_list() for user in users]
        assert listed == [stage.train.items.take(each) for each in expected]
        # someone new is folded in there too
        folded = [alone.recommend(None, recent=["v-1", "v-2"], n=5, context={"place": place}) for place in PLACES]
        assert folded[0]["item"].to_list() != folded[1]["item"].to_list()


def test_what_inputs_add_is_told_for_the_context_that_was_asked_in(stage, fitted):
    model, user = fitted["second_stage"], int(stage.truth.user_rows[2])
    lacks = np.setdiff1d(np.arange(len(stage.train.items)), stage.train.history(user)[0])
    told = {}
    for place in PLACES:
        there = pl.DataFrame({"place": [place]})
        best = int(lacks[np.argmax(model.scores_in(np.array([user], np.int32), there)[0][lacks])])
        terms = model.terms_in(user, best, there)
        assert terms.result == pytest.approx(model.scores_in(np.array([user], np.int32), there)[0, best], rel=SUMMED)
        told[place] = model.terms_in(user, int(lacks[0]), there).result
    assert len(set(told.values())) == 3
    models = [library.fit("popular", stage.train), Fitted("second_stage", model, stage.train)]
    shelf = library.shelf(
        {"shelf": "a", "candidates": [{"model": "second_stage"}], "fallback": [{"model": "popular"}]}, models
    )
    name = stage.train.users.id(user)
    reasons = [
        shelf.loaded.answer(RecommendRequest(user=name, n=8, context={"place": place}, explain=True)).places.reasons
        for place in PLACES
    ]
    assert all(reason.startswith("mostly by ") for each in reasons for reason in each if reason)
    assert any("in the same place" in (reason or "") for each in reasons for reason in each)
