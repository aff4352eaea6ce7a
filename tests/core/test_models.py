"""Models against their dense twins."""

from __future__ import annotations

import dataclasses
import itertools

import numpy as np
import pytest

from gleaner.core import parallel
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import CancelledError, InputError, NotFoundError, ParameterError
from gleaner.core.kernels import als as als_kernels
from gleaner.core.kernels import cosine as cosine_kernels
from gleaner.core.models import item_linear
from gleaner.core.models.als import Als
from gleaner.core.models.item_knn import ItemKnn
from gleaner.core.models.item_linear import ItemLinear
from gleaner.core.models.popularity import Popularity
from gleaner.core.models.registry import FAMILIES, build
from gleaner.core.ranking.ties import tie_order
from reference import models as naive
from worlds import dense_of, ids, random_matrix


@pytest.mark.parametrize("weighting", ["value", "log", "binary"])
@pytest.mark.parametrize("power", [0.0, 1.0])
def test_als_steps_reach_the_exact_minimum_of_each_side(weighting, power):
    matrix = random_matrix(1)
    dense, observed = dense_of(matrix)
    model = Als(rank=4, iterations=1, cg_steps=40, weighting=weighting, frequency_scaling=power, seed=5, init_scale=1.0)
    model.fit(matrix)
    weights = naive.weights_of(dense, observed, weighting)
    settings = (model.unobserved_weight, model.regularisation, power)
    # the last half-step solved the items exactly, given the users
    expected = naive.als_half_step(weights.T, observed.T, model.user_factors_.astype(float), *settings)
    np.testing.assert_allclose(model.item_factors_, expected, rtol=2e-3, atol=2e-4)
    expected_loss = naive.als_objective(weights, observed, model.user_factors_, model.item_factors_, *settings)
    assert model.objective(matrix) == pytest.approx(expected_loss, rel=1e-4)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_the_als_objective_never_rises(seed):
    matrix = random_matrix(seed, n_users=40, n_items=25)
    losses = [Als(rank=6, iterations=n, seed=seed).fit(matrix).objective(matrix) for n in range(1, 9)]
    assert all(later <= earlier * (1 + 1e-5) for earlier, later in itertools.pairwise(losses))
    assert losses[-1] < losses[0]


@pytest.mark.parametrize("name", sorted(FAMILIES))
def test_the_same_seed_gives_the_same_model_on_any_number_of_threads(name, monkeypatch):
    matrix = random_matrix(4, n_users=60, n_items=30)
    found = []
    for threads in (1, 2, 5):
        monkeypatch.setattr(parallel, "default_threads", lambda threads=threads: threads)
        model = build(name, {"rank": 5} if name == "als" else {}).fit(matrix)
        found.append(model.scores(np.arange(60, dtype=np.int32)))
    np.testing.assert_array_equal(found[0], found[1])
    np.testing.assert_array_equal(found[0], found[2])


def test_als_folds_in_as_it_trains():
    matrix = random_matrix(7, n_users=30, n_items=15)
    model = Als(rank=4, iterations=60, cg_steps=20).fit(matrix)
    items, values = matrix.history(5)
    folded = model.scores_of(model.fold_in(items, values))
    np.testing.assert_allclose(folded, model.scores(np.array([5]))[0], atol=5e-3)


@pytest.mark.parametrize(
    ("weighting", "k", "shrinkage"), [("value", 2, 0.0), ("value", 100, 0.0), ("log", 3, 4.0), ("binary", 100, 1.0)]
)
def test_item_knn_agrees_with_plain_loops(weighting, k, shrinkage):
    # values drawn from the reals, so that no two likenesses are the same by chance
    matrix = random_matrix(8, n_users=20, n_items=12)
    matrix = dataclasses.replace(
        matrix, values=matrix.values + np.random.default_rng(0).random(len(matrix.values), np.float32)
    )
    dense, observed = dense_of(matrix)
    weighed = {"value": dense, "log": np.log(1 + dense), "binary": np.ones_like(dense)}[weighting]
    model = ItemKnn(neighbours=k, shrinkage=shrinkage, weighting=weighting).fit(matrix)
    expected = naive.knn_scores(weighed, observed, k, shrinkage)
    np.testing.assert_allclose(model.scores(np.arange(20, dtype=np.int32)), expected, rtol=1e-4, atol=1e-5)
    items, values = matrix.history(9)
    np.testing.assert_allclose(model.scores_of(model.fold_in(items, values)), expected[9], rtol=1e-4, atol=1e-5)


@pytest.mark.parametrize(
    ("weighting", "regularisation", "dropout"), [("binary", 2.0, 0.0), ("value", 5.0, 0.3), ("log", 0.5, 0.0)]
)
def test_item_linear_agrees_with_one_regression_an_item(weighting, regularisation, dropout):
    matrix = random_matrix(8, n_users=30, n_items=10)
    dense, observed = dense_of(matrix)
    x = {"binary": observed * 1.0, "value": dense, "log": np.where(observed, np.log1p(dense), 0.0)}[weighting]
    expected = x @ naive.linear_weights(x, regularisation, dropout)
    model = ItemLinear(regularisation=regularisation, dropout=dropout, weighting=weighting).fit(matrix)
    np.testing.assert_allclose(model.scores(np.arange(30, dtype=np.int32)), expected, rtol=1e-4, atol=1e-5)
    assert (model.weights_.diagonal() == 0).all()
    items, values = matrix.history(9)
    np.testing.assert_allclose(model.scores_of(model.fold_in(items, values)), expected[9], rtol=1e-4, atol=1e-5)


def test_item_linear_refuses_what_it_cannot_hold_and_stops_when_told(monkeypatch):
    matrix = random_matrix(8, n_users=30, n_items=10)
    with pytest.raises(CancelledError):
        ItemLinear().fit(matrix, watch=lambda done, iteration, losses: done < 0.5)
    monkeypatch.setattr(item_linear, "MAX_ITEMS", 9)
    with pytest.raises(InputError, match="10 are more than 9; prune with min_item, or take item_knn"):
        ItemLinear().fit(matrix)


def test_equally_near_items_fall_by_their_hash():
    # one user has everything: all items are equally alike
    n = 9
    matrix = InteractionMatrix.from_cells(np.zeros(n, int), np.arange(n), np.ones(n), ids("u", 1), ids("i", n))
    order = tie_order(matrix.items)
    for item, near in enumerate(ItemKnn(neighbours=4).fit(matrix).near_):
        assert near.tolist() == sorted((i for i in range(n) if i != item), key=lambda i: order[i])[:4]


def test_popularity_counts_users_or_values():
    matrix = random_matrix(2)
    dense, observed = dense_of(matrix)
    for measure, expected in (("users", observed.sum(0)), ("value", dense.sum(0))):
        model = Popularity(measure=measure).fit(matrix)
        np.testing.assert_array_equal(model.scores(np.array([0, 3])), np.tile(expected, (2, 1)))


@pytest.mark.parametrize("name", sorted(FAMILIES))
def test_a_model_comes_back_from_its_state(name):
    matrix = random_matrix(3, n_users=20)
    model = build(name, {"rank": 3} if name == "als" else {}).fit(matrix)
    again = build(name, model.params()).restore(model.state(), matrix)
    rows = np.arange(20, dtype=np.int32)
    np.testing.assert_array_equal(again.scores(rows), model.scores(rows))


@pytest.mark.parametrize("name", sorted(FAMILIES))
def test_one_user_with_one_item_is_enough(name):
    matrix = InteractionMatrix.from_cells(np.array([0]), np.array([0]), np.ones(1), ids("u", 1), ids("i", 1))
    model = build(name, {"rank": 1} if name == "als" else {}).fit(matrix)
    assert np.isfinite(model.scores(np.array([0], dtype=np.int32))).all()


@pytest.mark.parametrize("name", sorted(FAMILIES))
def test_an_empty_training_part_is_refused(name):
    empty = InteractionMatrix.from_cells(np.array([], int), np.array([], int), np.array([]), ids("u", 2), ids("i", 2))
    with pytest.raises(InputError, match="nothing to learn from"):
        build(name, {}).fit(empty)


@pytest.mark.parametrize(
    ("name", "params", "message"),
    [
        ("als", {"rank": 0}, "rank must be a whole number of at least 1 and at most 4096, not 0"),
        ("als", {"rank": 2.5}, "rank must be a whole number"),
        ("als", {"regularisation": -1}, "regularisation must be a number of at least 0, not -1"),
        ("als", {"weighting": "loud"}, "weighting must be one of value, log, binary, not 'loud'"),
        ("als", {"factors": 3}, "als has no parameter 'factors'; it has: rank, "),
        ("item_linear", {"dropout": 1}, "dropout must be a number of at least 0 and at most 0.99, not 1"),
        ("item_knn", {"neighbours": True}, "neighbours must be a whole number"),
        ("popular", {"measure": "fame"}, "measure must be users or value, not 'fame'"),
    ],
)
def test_parameters_that_do_not_fit_are_named(name, params, message):
    with pytest.raises(ParameterError, match=message):
        build(name, params)


def test_a_rank_above_the_matrix_is_refused():
    with pytest.raises(ParameterError, match="rank 10 is above what 12 users and 9 items can carry; choose at most 9"):
        Als(rank=10).fit(random_matrix(1))


def test_negative_values_are_no_weights():
    matrix = dataclasses.replace(random_matrix(1), values=-random_matrix(1).values)
    with pytest.raises(InputError, match="cannot be negative"):
        Als(rank=2).fit(matrix)


def test_an_unknown_family_lists_what_there_is():
    with pytest.raises(NotFoundError, match="there are: popular, item_knn, item_linear, als"):
        build("deep_thought", {})


@pytest.mark.parametrize("name", ["item_knn", "item_linear", "als"])
def test_training_stops_when_asked(name):
    heard = []

    def watch(done, iteration, losses):
        heard.append(done)
        return False

    with pytest.raises(CancelledError):
        build(name, {"rank": 2} if name == "als" else {}).fit(random_matrix(1), watch=watch)
    assert 0 < heard[0] <= 1


def test_kernels_do_the_same_uncompiled():
    matrix = random_matrix(5)
    compiled = ItemKnn(neighbours=3).fit(matrix)
    indptr, users, values = matrix.by_item
    weighed, by_user = np.log1p(values), np.log1p(matrix.values)
    norms = np.sqrt(np.bincount(matrix.indices, weights=by_user**2, minlength=9)).astype(np.float32)
    near, likeness = np.full((9, 3), -1, np.int32), np.zeros((9, 3), np.float32)
    cosine_kernels.nearest_rows.py_func(
        0,
        9,
        indptr,
        users,
        weighed,
        matrix.indptr,
        matrix.indices,
        by_user,
        norms,
        np.float32(10),
        tie_order(matrix.items),
        near,
        likeness,
    )
    np.testing.assert_array_equal(near, compiled.near_)
    np.testing.assert_allclose(likeness, compiled.likeness_, rtol=1e-5)
    random = np.random.default_rng(0)
    Y = random.normal(size=(9, 4)).astype(np.float32)
    gram, ridge = (Y.T @ Y) * np.float32(0.1), np.ones(12, np.float32)
    found = []
    for kernel in (als_kernels.solve_rows, als_kernels.solve_rows.py_func):
        X = np.ones((12, 4), np.float32)
        kernel(0, 12, matrix.indptr, matrix.indices, by_user, Y, gram, ridge, 2, X)
        found.append(X)
    np.testing.assert_allclose(found[0], found[1], rtol=1e-4, atol=1e-5)
