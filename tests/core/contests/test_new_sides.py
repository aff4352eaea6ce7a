"""Items and users that training never saw, kept in the held-out parts: candidates, figures, and every family."""

from __future__ import annotations

import numpy as np
import pytest

from core.models.test_families import small
from gleaner.core.contests.parts import divide
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError, ParameterError
from gleaner.core.metrics.evaluation import RankPlan, evaluate
from gleaner.core.models.base.blocks import deal
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split, split
from tolerances import SUMMED
from worlds import features_for, rows_of

PLAN = RankPlan(["ndcg", "recall", "auc", "coverage"], [3], 1)


def world():
    """Forty users, each with six of fifteen items, four days apart."""
    random = np.random.default_rng(3)
    cells = [(f"u{user}", f"i{item}") for user in range(40) for item in random.choice(15, 6, replace=False)]
    return rows_of(cells, days=random.permutation(len(cells)).tolist(), values=[1.0 + n % 5 for n in range(len(cells))],
                   scale=(1.0, 5.0))  # fmt: skip


def divided(rule, **preparation):
    return divide(world(), Preparation(**preparation), rule, lambda done, message: None)


BY_ITEMS = Split(by="items", test=0.2, validation=0.2, seed=5)


def test_whole_items_are_held_out_and_nothing_else_may_be_listed():
    parts = divided(BY_ITEMS)
    stage = parts.stage("test")
    rows = split(world(), BY_ITEMS)
    held_out = {rows.test.items.take(np.array([each]))[0] for each in rows.test.frame["item"].to_list()}
    assert len(held_out) == 3
    names = stage.train.items.ids.to_pylist()
    assert {name for name, may in zip(names, stage.truth.candidates, strict=True) if may} == held_out
    assert not stage.train.item_counts[stage.truth.candidates].any()
    assert stage.train.item_counts[~stage.truth.candidates].all()
    assert stage.truth.unseen_items == 0
    assert len(stage.truth.indices) == len(rows.test)
    # what is kept learns of everything
    assert parts.final.n_cells == len(world())
    facts = {each.part: each for each in parts.facts}
    assert (facts["test"].new_items, facts["test"].new_users) == (3, None)


def test_figures_over_new_items_are_those_of_a_plain_count():
    stage = divided(BY_ITEMS).stage("test")
    model = build("item_content", {}).fit(stage.train, features=features_for(stage.train))
    figures = evaluate(model, stage.train, stage.truth, PLAN, tie_order(stage.train.items))
    new = np.flatnonzero(stage.truth.candidates)
    places = tie_order(stage.train.items)
    scores = model.scores(stage.truth.user_rows)
    for place, (lo, hi) in enumerate(zip(stage.truth.indptr, stage.truth.indptr[1:], strict=False)):
        relevant = set(stage.truth.indices[lo:hi].tolist())
        order = sorted(new.tolist(), key=lambda item: (-scores[place][item], places[item]))
        gains = [item in relevant for item in order]
        assert figures.per_user["recall@3"][place] == 1
        ideal = sum(1 / np.log2(2 + at) for at in range(len(relevant)))
        ndcg = sum(1 / np.log2(2 + at) for at, hit in enumerate(gains) if hit) / ideal
        assert figures.per_user["ndcg@3"][place] == pytest.approx(ndcg, rel=SUMMED)
        if 0 < len(relevant) < len(new):
            above = sum(a < b for a, hit in enumerate(gains) if hit for b, other in enumerate(gains) if not other)
            pairs = len(relevant) * (len(new) - len(relevant))
            assert figures.per_user["auc"][place] == pytest.approx(above / pairs, rel=SUMMED)
    assert figures.whole["coverage@3"] == 1


def test_who_and_what_is_new_at_a_moment_is_kept_where_the_split_says_so():
    plain = divided(Split(test=0.7, validation=0.1, seed=5), last_days=30)
    kept = divided(Split(test=0.7, validation=0.1, seed=5, keep=("users", "items")), last_days=30)
    before, after = plain.stage("test"), kept.stage("test")
    assert before.truth.unseen_users > 0
    assert after.truth.unseen_users == after.truth.unseen_items == 0
    assert after.truth.candidates is None
    assert after.train.n_cells == before.train.n_cells
    n_users, n_items = before.train.shape
    assert after.train.users.ids.to_pylist()[:n_users] == before.train.users.ids.to_pylist()
    assert after.train.shape == (n_users + before.truth.unseen_users, n_items + before.truth.unseen_items)
    facts = {each.part: each for each in kept.facts}
    assert facts["test"].new_users == before.truth.unseen_users
    assert facts["test"].new_items == before.truth.unseen_items


BY_COLUMNS = ("fm_values", "ffm_values", "wide_deep_values", "deep_fm_values")
"""Families that predict values of what training never saw, by columns."""


@pytest.mark.parametrize("family", FAMILIES)
def test_every_family_fits_beside_rows_without_a_cell(family):
    values = FAMILIES[family].feedback == "explicit"
    stage = divided(BY_ITEMS, use="values" if values else None).stage("test")
    model = build(family, small(family)).fit(stage.train, features=features_for(stage.train))
    scores = model.scores(stage.truth.user_rows)
    assert np.isfinite(scores).all()
    if values:
        some = stage.truth.user_rows[:2]
        pairs = model.rate(some, np.repeat(np.flatnonzero(stage.truth.candidates)[:1], 2).astype(np.int32))
        assert pairs.answerable.tolist() == [family in BY_COLUMNS] * 2


def test_what_nobody_has_is_not_drawn_as_passed_over():
    counts = np.array([3, 0, 1, 2, 0, 5, 1, 1, 1, 0, 4, 2])
    block_of, blocks = deal(counts, 1, 1)
    assert (block_of[counts == 0] == -1).all()
    assert sorted(np.concatenate(blocks).tolist()) == np.flatnonzero(counts).tolist()
    stage = divided(BY_ITEMS).stage("test")
    model = build("bpr", {"rank": 3, "iterations": 3}).fit(stage.train)
    assert not model.item_factors_[stage.truth.candidates].any()


def test_rules_that_cannot_keep_say_so():
    with pytest.raises(ParameterError, match="shows a part of whom it holds out"):
        Split(by="users", keep=("users",))
    with pytest.raises(ParameterError, match=r"split\.keep holds users and items"):
        Split(keep=("rows",))
    with pytest.raises(DataError, match="the training part of the split by items would be empty"):
        split(rows_of([("u1", "i1"), ("u2", "i1")]), Split(by="items", test=0.5, validation=0))
