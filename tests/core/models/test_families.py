"""Every family of models: what all of them must keep."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest

from gleaner.core import parallel
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import DataError, InputError, ParameterError
from gleaner.core.models.base import blocks
from gleaner.core.models.base.capabilities import (
    FoldsIn,
    FoldsInItems,
    PredictsValues,
    Refreshable,
    folding,
    terms_of_history,
)
from gleaner.core.models.base.registry import FAMILIES, GROUPS, build
from gleaner.core.models.base.values import UNKNOWN_BOTH, UNKNOWN_ITEM, UNKNOWN_USER
from gleaner.core.models.base.watching import Watch
from gleaner.core.warm import warm
from reference import models as naive
from tolerances import SINGLE, SOLVED, SUMMED
from worlds import dense_of, features_for, ids, random_matrix, rated_matrix

ALL = sorted(FAMILIES)
ITERATIVE = [name for name in ALL if "iterations" in {field.name for field in dataclasses.fields(FAMILIES[name])}]
EVERYONE = np.arange(40, dtype=np.int32)


def small(name: str) -> dict:
    """Parameters that fit a small matrix."""
    if name.startswith("blend"):
        return {"members": ["item_knn", {"als": {"rank": 4}}]}
    if name == "second_stage":
        return {"members": ["item_knn", {"als": {"rank": 4}}], "folds": 2, "rounds": 5, "least": 5}
    rank = {"rank": 4} if "rank" in {field.name for field in dataclasses.fields(FAMILIES[name])} else {}
    # graphs are quick, and begin slowly
    few = name in GROUPS["neural"] and not name.startswith("graph")
    return rank | ({"iterations": 4} if few else {})


@pytest.mark.parametrize("name", ALL)
def test_the_same_seed_gives_the_same_model_on_any_number_of_threads(name, monkeypatch):
    matrix = rated_matrix(4)
    monkeypatch.setattr(blocks, "SMALL", 0)
    actual = []
    params = small(name) | ({"iterations": 4} if name in ITERATIVE else {})
    for threads in (1, 2, 5):
        monkeypatch.setattr(parallel, "default_threads", lambda threads=threads: threads)
        actual.append(build(name, params).fit(matrix, features=features_for(matrix)).scores(EVERYONE))
    np.testing.assert_array_equal(actual[0], actual[1])
    np.testing.assert_array_equal(actual[0], actual[2])
    assert actual[0].dtype == np.float32


@pytest.mark.parametrize("name", ALL)
def test_a_model_comes_back_from_its_state(name):
    matrix = rated_matrix(3)
    model = build(name, small(name)).fit(matrix, features=features_for(matrix))
    again = build(name, model.params()).restore(model.state(), matrix)
    np.testing.assert_array_equal(again.scores(EVERYONE), model.scores(EVERYONE))
    if folding(model) is not None:
        history = matrix.history(9)
        np.testing.assert_array_equal(
            again.scores_of(again.fold_in(*history)), model.scores_of(model.fold_in(*history))
        )


@pytest.mark.parametrize("name", ALL)
def test_scores_by_item_are_the_scores_by_user(name):
    matrix = rated_matrix(3)
    model = build(name, small(name)).fit(matrix, features=features_for(matrix))
    by_user = model.scores(EVERYONE)
    np.testing.assert_allclose(
        model.item_scores(np.array([0, 5, 11])), by_user[:, [0, 5, 11]].T, rtol=SOLVED, atol=SUMMED
    )


SAME_WHEN_SHOWN_AGAIN = {"sgd_values": 0.6, "svdpp": 0.6, "bpr": 0.8, "warp": 0.7, "logistic": 0.75,
                         "feature_sum": 0.6, "wide_deep": 0.85, "graph_values": 0.7}  # fmt: skip
"""Families that take gradient steps fold in by solving what training only approaches: the order is near, not equal.
Networks miss what a user's own vector and columns say, which nobody has told them of someone new."""


@pytest.mark.parametrize("name", [name for name in ALL if issubclass(FAMILIES[name], FoldsIn) and name != "random"])
def test_someone_with_the_history_of_a_known_user_gets_about_their_scores(name):
    matrix = rated_matrix(5, n_users=60)
    model = build(name, small(name)).fit(matrix, features=features_for(matrix))
    for row in (7, 20):
        folded = model.scores_of(model.fold_in(*matrix.history(row)))
        known = model.scores(np.array([row], dtype=np.int32))[0]
        assert np.corrcoef(folded, known)[0, 1] > SAME_WHEN_SHOWN_AGAIN.get(name, 0.93)


@pytest.mark.parametrize("name", [name for name in ALL if issubclass(FAMILIES[name], FoldsInItems)])
def test_a_new_item_is_scored_as_if_training_had_seen_it(name):
    whole = rated_matrix(5, n_users=80)
    indptr, users, values = whole.by_item
    part = slice(indptr[4], indptr[5])
    kept = whole.indices != 4
    cells = (whole.user_rows[kept], whole.indices[kept], whole.values[kept], whole.users, whole.items)
    without = InteractionMatrix.from_sorted(*cells, scale=whole.scale)
    model = build(name, small(name)).fit(without)
    folded = model.scores_of_item(model.fold_in_item(users[part], values[part]))
    known = build(name, small(name)).fit(whole).item_scores(np.array([4]))[0]
    assert folded.shape == known.shape == (80,)
    assert np.corrcoef(folded, known)[0, 1] > 0.5


@pytest.mark.parametrize("name", ALL)
def test_one_user_with_one_item_is_enough_or_refused_in_words(name):
    matrix = InteractionMatrix.from_cells(np.array([0]), np.array([0]), np.ones(1), ids("u", 1), ids("i", 1))
    matrix = dataclasses.replace(matrix, scale=(1.0, 5.0), days=np.ones(1))
    params = small(name) | ({"rank": 1} if "rank" in small(name) else {})
    if name.startswith("blend"):
        params = {"members": ["item_knn", {"als": {"rank": 1}}]}
    if name == "second_stage":
        with pytest.raises(DataError, match="no member lists anything that was held out"):
            build(name, params | {"members": ["item_knn"]}).fit(matrix)
        return
    if name == "self_attention":
        with pytest.raises(InputError, match="no user has two items"):
            build(name, params).fit(matrix)
        return
    if name == "svd_values":
        with pytest.raises(ParameterError, match="rank 1 must be below 1"):
            build(name, params).fit(matrix)
        return
    assert np.isfinite(
        build(name, params).fit(matrix, features=features_for(matrix)).scores(np.array([0], dtype=np.int32))
    ).all()


@pytest.mark.parametrize("name", ALL)
def test_equal_values_are_no_trouble(name):
    matrix = rated_matrix(6)
    matrix = dataclasses.replace(matrix, values=np.full_like(matrix.values, 3))
    model = build(name, small(name)).fit(matrix, features=features_for(matrix))
    assert np.isfinite(model.scores(EVERYONE)).all()
    if isinstance(model, PredictsValues):
        # damped towards the mean: near it, not at it
        np.testing.assert_allclose(model.rate(np.array([5]), np.array([5])).values, 3, atol=0.6)


@pytest.mark.parametrize("name", ALL)
def test_an_empty_or_unfit_training_part_is_refused(name):
    empty = InteractionMatrix.from_cells(np.array([], int), np.array([], int), np.array([]), ids("u", 2), ids("i", 2))
    with pytest.raises(InputError, match="nothing to learn from"):
        build(name, small(name)).fit(dataclasses.replace(empty, scale=(1.0, 5.0)))
    spoilt = rated_matrix(1)
    spoilt.values[3] = np.nan
    with pytest.raises(InputError, match="not finite"):
        build(name, small(name)).fit(spoilt)
    if FAMILIES[name].feedback == "explicit":
        with pytest.raises(InputError, match=f"{name} predicts values, and this training matrix holds weights"):
            build(name, small(name)).fit(random_matrix(1))


@pytest.mark.parametrize(
    "name", [name for name in ALL if "rank" in small(name) and name not in ("svd_values", *GROUPS["neural"])]
)
def test_a_rank_above_the_matrix_is_refused(name):
    with pytest.raises(
        ParameterError, match="rank 30 is above what 40 users and 14 items can carry; choose at most 14"
    ):
        build(name, {"rank": 30}).fit(rated_matrix(1))


@pytest.mark.parametrize("name", ["item_knn_values", "user_knn_values"])
def test_the_terms_of_a_value_add_up_to_it(name):
    matrix = rated_matrix(9, n_users=30, n_items=11)
    model = build(name, {"neighbours": 6}).fit(matrix)
    predicted = model.predict(np.full(11, 4), np.arange(11))
    checked = 0
    for item in range(11):
        terms = model.terms(4, item)
        assert (terms is None) == np.isnan(predicted[item])
        if terms is None:
            continue
        part = terms.columns
        by_hand = terms.start + (part["likeness"] @ (part["value"] - part["mean"])) / part["likeness"].sum()
        assert predicted[item] == pytest.approx(by_hand, abs=SUMMED) == pytest.approx(terms.result, abs=SUMMED)
        checked += 1
    assert checked > 3


def test_what_cannot_be_answered_says_why_and_falls_back():
    matrix = rated_matrix(9, n_users=30, n_items=11)
    model = build("als_values", {"rank": 3}).fit(matrix)
    answer = model.rate(np.array([4, -1, 4, -1]), np.array([5, 5, -1, -1]))
    assert answer.reason.tolist() == [0, UNKNOWN_USER, UNKNOWN_ITEM, UNKNOWN_BOTH]
    mean, user, item = naive.damped_biases(*dense_of(matrix), 5.0)
    np.testing.assert_allclose(answer.values[1:], [mean + item[5], mean + user[4], mean], rtol=SINGLE)
    assert answer.answerable.tolist() == [True, False, False, False]


@pytest.mark.parametrize("name", ["als", "item_knn", "user_knn", "item_linear", "item_sparse", "association"])
def test_the_terms_of_a_score_add_up_to_it(name):
    matrix = rated_matrix(5)
    model = build(name, small(name)).fit(matrix, features=features_for(matrix))
    scores = model.scores(EVERYONE)
    for user, item in ((9, 3), (12, 7)):
        terms = model.terms(user, item)
        exact = scores[user, item] if name != "als" else model.scores_of(model.fold_in(*matrix.history(user)))[item]
        assert terms.result == pytest.approx(exact, abs=SUMMED)
        assert len(terms.rows) == len(terms.columns["adds"])
        if terms.side == "item":
            assert set(terms.rows) <= set(matrix.history(user)[0])
        if name in ("als", "item_knn", "item_linear", "item_sparse"):
            # someone folded in, from another history
            history = np.array([0, 2, 5], np.int32), np.array([1, 3, 2], np.float32)
            folded = terms_of_history(model, *history, item)
            assert folded.result == pytest.approx(model.scores_of(model.fold_in(*history))[item], abs=SUMMED)
            assert set(folded.rows) <= set(history[0])


@pytest.mark.parametrize("name", [name for name in ALL if issubclass(FAMILIES[name], Refreshable)])
def test_a_refresh_goes_on_from_an_older_model(name):
    newer = rated_matrix(5, n_users=60)
    end = newer.indptr[50]
    cells = (newer.user_rows[:end], newer.indices[:end], newer.values[:end])
    older = InteractionMatrix.from_sorted(*cells, newer.users.subset(np.arange(50)), newer.items, scale=newer.scale)
    old = build(name, {"rank": 4, "iterations": 40}).fit(older)
    after = {}
    for what in ("refreshed", "full", "few"):
        watch = Watch(end_round=lambda _: None)
        model = build(name, {"rank": 4, "iterations": 8 if what == "few" else 40})
        if what == "refreshed":
            model.refresh(newer, old, watch)
        else:
            model.fit(newer, watch=watch)
        after[what] = watch.rounds[-1].losses["training"]
        assert len(watch.rounds) == (40 if what == "full" else 8)
    assert after["refreshed"] < after["few"]
    # a fifth of the iterations comes near a full fit, not to it
    assert after["refreshed"] == pytest.approx(after["full"], rel=0.25)
    with pytest.raises(ParameterError, match="rank is 3, and the older model has 4"):
        build(name, {"rank": 3}).refresh(newer, old, Watch())


def test_warming_goes_through_every_family_that_has_kernels():
    heard = []
    with_kernels = [name for name in FAMILIES if name not in GROUPS["neural"]]
    assert warm(lambda name, done: heard.append(name)) == len(with_kernels)
    assert heard == with_kernels
