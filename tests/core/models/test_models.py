"""Models against their dense twins."""

from __future__ import annotations

import dataclasses
import itertools

import numpy as np
import pytest

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import CancelledError, InputError, ParameterError, UnknownNameError
from gleaner.core.kernels import als as als_kernels
from gleaner.core.kernels import neighbours as neighbour_kernels
from gleaner.core.kernels import pair_steps as pair_kernels
from gleaner.core.kernels import value_steps as value_kernels
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.baselines.popularity import Popular
from gleaner.core.models.implicit.als import Als
from gleaner.core.models.linear import item_linear
from gleaner.core.models.linear.item_linear import ItemLinear
from gleaner.core.models.neighbours.item_knn import ItemKnn
from reference import models as naive
from tolerances import SINGLE, SUMMED
from worlds import dense_of, ids, random_matrix


@pytest.mark.parametrize("weighting", ["value", "log", "binary"])
@pytest.mark.parametrize("power", [0.0, 1.0])
def test_als_steps_reach_the_exact_minimum_of_each_side(weighting, power):
    matrix = random_matrix(1)
    dense, observed = dense_of(matrix)
    model = Als(rank=4, iterations=1, cg_steps=40, weighting=weighting, frequency_scaling=power, seed=5, init_scale=1.0)
    model.fit(matrix)
    weights = naive.weights_of(dense, observed, weighting)
    settings = (model.unobserved_weight * observed.mean(), model.regularisation, power)
    # the last half-step solved the items exactly, given the users
    expected = naive.als_half_step(weights.T, observed.T, model.user_factors_.astype(float), *settings)
    # three conjugate-gradient steps stop short of the exact solution
    np.testing.assert_allclose(model.item_factors_, expected, rtol=2e-3, atol=2e-4)
    expected_loss = naive.als_objective(weights, observed, model.user_factors_, model.item_factors_, *settings)
    assert model.objective(matrix) == pytest.approx(expected_loss, rel=SUMMED)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_the_als_objective_never_rises(seed):
    matrix = random_matrix(seed, n_users=40, n_items=25)
    losses = [Als(rank=6, iterations=n, seed=seed).fit(matrix).objective(matrix) for n in range(1, 9)]
    assert all(later <= earlier * (1 + 1e-5) for earlier, later in itertools.pairwise(losses))
    assert losses[-1] < losses[0]


def test_als_folds_in_as_it_trains():
    matrix = random_matrix(7, n_users=30, n_items=15)
    model = Als(rank=4, iterations=60, cg_steps=20).fit(matrix)
    items, values = matrix.history(5)
    folded = model.scores_of(model.fold_in(items, values))
    # fold-in is exact, training stopped after so many iterations
    np.testing.assert_allclose(folded, model.scores(np.array([5]))[0], atol=5e-3)


@pytest.mark.parametrize(
    ("weighting", "regularisation", "dropout"), [("binary", 2.0, 0.0), ("value", 5.0, 0.3), ("log", 0.5, 0.0)]
)
def test_item_linear_agrees_with_one_regression_an_item(weighting, regularisation, dropout):
    matrix = random_matrix(8, n_users=30, n_items=10)
    dense, observed = dense_of(matrix)
    x = {"binary": observed * 1.0, "value": dense, "log": np.where(observed, np.log1p(dense), 0.0)}[weighting]
    expected = x @ naive.linear_weights(x, regularisation, dropout)
    model = ItemLinear(regularisation=regularisation, dropout=dropout, weighting=weighting).fit(matrix)
    np.testing.assert_allclose(model.scores(np.arange(30, dtype=np.int32)), expected, rtol=SUMMED, atol=SINGLE)
    assert (model.weights_.diagonal() == 0).all()
    items, values = matrix.history(9)
    np.testing.assert_allclose(model.scores_of(model.fold_in(items, values)), expected[9], rtol=SUMMED, atol=SINGLE)


def test_item_linear_refuses_what_it_cannot_hold_and_stops_when_told(monkeypatch):
    matrix = random_matrix(8, n_users=30, n_items=10)
    with pytest.raises(CancelledError):
        ItemLinear().fit(matrix, watch=Watch(progress=lambda done, iteration: done < 0.3))
    monkeypatch.setattr(item_linear, "MAX_ITEMS", 9)
    with pytest.raises(InputError, match="10 are more than 9; prune with min_item, or take item_knn"):
        ItemLinear().fit(matrix)


def test_equally_near_items_fall_by_their_hash():
    # one user has everything: all items are equally alike
    n = 9
    matrix = InteractionMatrix.from_cells(np.zeros(n, int), np.arange(n), np.ones(n), ids("u", 1), ids("i", n))
    order = tie_order(matrix.items)
    for item, near in enumerate(ItemKnn(neighbours=4).fit(matrix).nearest_.near):
        assert near.tolist() == sorted((i for i in range(n) if i != item), key=lambda i: order[i])[:4]


def test_popularity_counts_users_or_values():
    matrix = random_matrix(2)
    dense, observed = dense_of(matrix)
    for measure, expected in (("users", observed.sum(0)), ("value", dense.sum(0))):
        model = Popular(measure=measure).fit(matrix)
        np.testing.assert_array_equal(model.scores(np.array([0, 3])), np.tile(expected, (2, 1)))


@pytest.mark.parametrize(
    ("name", "params", "message"),
    [
        ("als", {"rank": 0}, "rank must be a whole number of at least 1 and at most 4096, not 0"),
        ("als", {"rank": 2.5}, "rank must be a whole number"),
        ("als", {"regularisation": -1}, "regularisation must be a number of at least 0, not -1"),
        ("als", {"weighting": "loud"}, "weighting must be one of value, log, binary, not 'loud'"),
        ("als", {"factors": 3}, "als has no parameter 'factors'; there are: rank, "),
        ("item_linear", {"dropout": 1}, "dropout must be a number of at least 0 and at most 0.99, not 1"),
        ("bpr", {"learning_rate": 0}, "learning_rate must be a number of at least 1e-06 and at most 10, not 0"),
        ("item_knn", {"similarity": "pearson"}, "similarity must be one of cosine, jaccard, log_likelihood, not"),
        ("item_knn", {"neighbours": True}, "neighbours must be a whole number"),
        ("popular", {"measure": "fame"}, "measure must be users or value, not 'fame'"),
    ],
)
def test_parameters_that_do_not_fit_are_named(name, params, message):
    with pytest.raises(ParameterError, match=message):
        build(name, params)


def test_negative_values_are_no_weights():
    matrix = dataclasses.replace(random_matrix(1), values=-random_matrix(1).values)
    with pytest.raises(InputError, match="cannot be negative"):
        Als(rank=2).fit(matrix)


def test_an_unknown_family_lists_what_there_is():
    with pytest.raises(UnknownNameError, match="there are: popular, trending, mean_value, random, item_knn"):
        build("deep_thought", {})


def test_kernels_do_the_same_uncompiled():
    matrix = random_matrix(5)
    indptr, users, values = matrix.by_item
    by_user = (matrix.indptr, matrix.indices, matrix.values)
    counts, order = np.diff(indptr).astype(np.float32), tie_order(matrix.items)
    rules = (neighbour_kernels.JACCARD, neighbour_kernels.LOG_LIKELIHOOD)
    for rule in rules:
        actual = []
        for kernel in (neighbour_kernels.nearest_by_product, neighbour_kernels.nearest_by_product.py_func):
            near, alike, both = np.full((9, 3), -1, np.int32), np.zeros((9, 3), np.float32), np.zeros((9, 3), np.int32)
            kernel(
                0, 9, indptr, users, values, *by_user, counts, counts, rule, np.float32(2), 1, order, near, alike, both
            )
            actual.append((near, alike, both))
        for compiled, plain in zip(*actual, strict=True):
            np.testing.assert_allclose(compiled, plain, rtol=SINGLE)
    random = np.random.default_rng(0)
    Y = random.normal(size=(9, 4)).astype(np.float32)
    gram, ridge = (Y.T @ Y) * np.float32(0.1), np.ones(12, np.float32)
    for kernel in (als_kernels.solve_rows, als_kernels.solve_blocks):
        actual = []
        for form in (kernel, kernel.py_func):
            X = np.ones((12, 4), np.float32)
            form(0, 12, matrix.indptr, matrix.indices, matrix.values, Y, gram, ridge, 2, X)
            actual.append(X)
        np.testing.assert_allclose(actual[0], actual[1], rtol=SUMMED, atol=SINGLE)


def slope(loss, arrays, place, index):
    """The derivative of a loss by one entry, by central differences."""
    values = []
    for step in (1e-4, -1e-4):
        changed = [array.astype(np.float64) for array in arrays]
        changed[place][index] += step
        values.append(loss(*changed))
    return (values[0] - values[1]) / 2e-4


def test_pair_steps_follow_the_slope_of_their_loss():
    random, rate, penalty = np.random.default_rng(3), np.float32(1e-3), np.float32(0.05)
    # one user who has item 0 of two: the pair drawn is known
    X = np.column_stack([random.normal(size=(1, 3)), [1]]).astype(np.float32)
    Y = random.normal(size=(2, 4)).astype(np.float32)
    cells = (np.array([0, 1]), np.array([0], np.int32))
    block = (np.zeros(2, np.int8), np.array([1], np.int32), 0)

    def ridge(x, y):
        return 0.5 * 0.05 * ((x[0, :3] ** 2).sum() + (y**2).sum())

    def pairs(x, y):
        return naive.pair_loss(x[0], y[0], y[1]) + ridge(x, y)

    def hinge(x, y):
        return np.log(1 + 6) * (9 - x[0] @ y[0] + x[0] @ y[1]) + ridge(x, y)

    def run(kernel, *more):
        after = [X.copy(), Y.copy()]
        kernel(0, 1, *cells, *block, *after, rate, penalty, np.uint64(1), *more)
        return [(new - old) / -rate for new, old in zip(after, (X, Y), strict=True)]

    for loss, actual in (
        (pairs, run(pair_kernels.pair_epoch)),
        (hinge, run(pair_kernels.warp_epoch, np.float32(9), 5, 7)),
    ):
        for place, shape in ((0, (1, 3)), (1, (2, 4))):
            for index in np.ndindex(shape):
                # a slope by differences of a 32-bit loss
                assert actual[place][index] == pytest.approx(slope(loss, (X, Y), place, index), abs=2e-2)


def test_logistic_steps_follow_the_slope_of_their_loss():
    random, rate, penalty = np.random.default_rng(3), np.float32(1e-3), np.float32(0.05)
    X = np.column_stack([random.normal(size=(1, 4)), [1]]).astype(np.float32)
    Y = np.column_stack([random.normal(size=(2, 3)), [1, 1], random.normal(size=2)]).astype(np.float32)
    after = [X.copy(), Y.copy()]
    weights, block = np.array([2.0], np.float32), (np.zeros(2, np.int8), np.array([1], np.int32), 0)
    pair_kernels.logistic_epoch(
        0, 1, np.array([0, 1]), np.array([0], np.int32), weights, *block, *after, rate, penalty, np.uint64(1), 1
    )

    def loss(x, y):
        # the user's vector is pulled towards 0 once for the item they have and once for the one drawn
        twice = 0.05 * (x[0, :4] ** 2).sum()
        once = 0.5 * 0.05 * ((y[:, :3] ** 2).sum() + (y[:, 4] ** 2).sum())
        return 2 * np.log1p(np.exp(-x[0] @ y[0])) + np.log1p(np.exp(x[0] @ y[1])) + twice + once

    for place, columns in ((0, [0, 1, 2, 3]), (1, [0, 1, 2, 4])):
        for row in range(place + 1):
            for column in columns:
                actual = (after[place] - (X, Y)[place])[row, column] / -rate
                # a slope by differences of a 32-bit loss
                assert actual == pytest.approx(slope(loss, (X, Y), place, (row, column)), abs=2e-2)


def test_value_steps_follow_the_slope_of_their_loss():
    random, rate, penalty = np.random.default_rng(3), np.float32(1e-3), np.float32(0.1)
    arrays = [random.normal(size=shape).astype(np.float32) for shape in ((1, 3), (1, 3), (1,), (1,))]
    cells = (np.array([0, 1]), np.array([0], np.int32), np.array([4.0], np.float32))
    after = [array.copy() for array in arrays]
    value_kernels.value_epoch(0, 1, *cells, np.zeros(1, np.int8), 0, np.float32(3), *after, rate, penalty)

    def loss(x, y, bu, bi):
        squares = (x**2).sum() + (y**2).sum() + bu[0] ** 2 + bi[0] ** 2
        return 0.5 * (4 - 3 - bu[0] - bi[0] - x[0] @ y[0]) ** 2 + 0.5 * 0.1 * squares

    for place, array in enumerate(arrays):
        for index in np.ndindex(array.shape):
            actual = (after[place] - array)[index] / -rate
            # a slope by differences of a 32-bit loss
            assert actual == pytest.approx(slope(loss, arrays, place, index), abs=2e-2)


def test_implicit_value_steps_follow_the_slope_of_their_loss():
    random, rate, penalty = np.random.default_rng(3), np.float32(1e-4), np.float32(0.1)
    # one cell: gathered and single steps are then the same gradient
    P, Y, Z = (random.normal(size=(1, 3)).astype(np.float32) for _ in range(3))
    biases = [random.normal(size=1).astype(np.float32) for _ in range(2)]
    arrays = [P, Y, Z, *biases]
    after = [array.copy() for array in arrays]
    cells = (np.array([0, 1]), np.array([0], np.int32), np.array([4.0], np.float32))
    value_kernels.implicit_epoch(np.array([0]), *cells, np.float32(3), *after, rate, penalty)

    def loss(p, y, z, bu, bi):
        squares = sum((part**2).sum() for part in (p, y, z, bu, bi))
        return 0.5 * (4 - 3 - bu[0] - bi[0] - y[0] @ (p[0] + z[0])) ** 2 + 0.5 * 0.1 * squares

    for place, array in enumerate(arrays):
        for index in np.ndindex(array.shape):
            actual = (after[place] - array)[index] / -rate
            # the same, of a loss that adds up over a history
            assert actual == pytest.approx(slope(loss, arrays, place, index), abs=5e-2)
