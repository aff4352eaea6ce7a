"""Families of models against plain loops."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest

from core.models.test_families import EVERYONE
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import ParameterError
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.values import NO_NEIGHBOUR
from reference import models as naive
from tolerances import SINGLE, SOLVED, SUMMED
from worlds import dense_of, random_matrix, rated_matrix


def unrounded(matrix: InteractionMatrix) -> InteractionMatrix:
    """Values from the reals, so that no two likenesses of values are the same by chance."""
    noise = np.random.default_rng(0).random(len(matrix.values), np.float32) - 0.5
    return dataclasses.replace(matrix, values=np.clip(matrix.values + noise, 1, 5))


SIMILARITIES = [("cosine", {}), ("cosine", {"asymmetry": 0.2}), ("jaccard", {}), ("log_likelihood", {})]


@pytest.mark.parametrize(("similarity", "how"), SIMILARITIES)
@pytest.mark.parametrize("by", ["item_knn", "user_knn"])
def test_neighbours_agree_with_plain_loops(by, similarity, how):
    matrix = unrounded(rated_matrix(8, n_users=20, n_items=12))
    dense, observed = dense_of(matrix)
    model = build(by, {"neighbours": 4, "similarity": similarity, "shrinkage": 3.0, "weighting": "value", **how})
    model.fit(matrix)
    rows, seen = (dense.T, observed.T) if by == "item_knn" else (dense, observed)
    alike = naive.likenesses(similarity, rows, seen, shrinkage=3.0, **how)
    near = naive.top_neighbours(alike, 4, tie_order(matrix.items if by == "item_knn" else matrix.users))
    kept = np.array([[alike[a, b] if b in near[a] else 0 for b in range(len(alike))] for a in range(len(alike))])
    expected = np.where(observed, dense, 0) @ kept.T if by == "item_knn" else kept @ np.where(observed, dense, 0)
    # sums over weighed histories: one digit less than a plain sum
    np.testing.assert_allclose(model.scores(EVERYONE[:20]), expected, rtol=2e-4, atol=SUMMED)


@pytest.mark.parametrize("measure", ["confidence", "lift", "support"])
def test_rules_agree_with_plain_loops(measure):
    matrix = rated_matrix(8, n_users=20, n_items=12)
    dense, observed = dense_of(matrix)
    model = build("association", {"neighbours": 12, "similarity": measure, "shrinkage": 2.0, "min_count": 3}).fit(
        matrix
    )
    alike = naive.likenesses(measure, dense.T, observed.T, shrinkage=2.0, least=3)
    np.testing.assert_allclose(model.scores(EVERYONE[:20]), observed @ alike.T, rtol=SUMMED, atol=SINGLE)


VALUE_SIMILARITIES = (
    "pearson", "adjusted_cosine", "cosine", "mean_squared_difference", "euclidean", "cosine_whole", "jaccard",
)  # fmt: skip
IN_COMMON = {"cosine": "cosine_in_common"}
"""What the references call a likeness that these families have another name for."""


@pytest.mark.parametrize("similarity", VALUE_SIMILARITIES)
@pytest.mark.parametrize("differing", ["left_out", "signed"])
@pytest.mark.parametrize("by", ["item_knn_values", "user_knn_values"])
def test_values_of_neighbours_agree_with_plain_loops(by, similarity, differing):
    matrix = unrounded(rated_matrix(9, n_users=18, n_items=11))
    dense, observed = dense_of(matrix)
    params = {"neighbours": 5, "similarity": similarity, "shrinkage": 2.0, "differing": differing}
    model, signed = build(by, params).fit(matrix), differing == "signed"
    rows, seen = (dense.T, observed.T) if by == "item_knn_values" else (dense, observed)
    alike = naive.likenesses(IN_COMMON.get(similarity, similarity), rows, seen, shrinkage=2.0, least=2, signed=signed)
    order = tie_order(matrix.items if by == "item_knn_values" else matrix.users)
    near = naive.top_neighbours(alike, 5, order, signed=signed)
    users, items = (part.ravel() for part in np.meshgrid(np.arange(18), np.arange(11), indexing="ij"))
    answer = model.rate(users, items)
    for user, item, value, reason in zip(users, items, answer.values, answer.reason, strict=True):
        row, other = (item, user) if by == "item_knn_values" else (user, item)
        expected = naive.knn_value(rows, seen, alike, near, row, other)
        assert (reason == NO_NEIGHBOUR) == (expected is None)
        if expected is not None:
            assert value == pytest.approx(np.clip(expected, 1, 5), abs=SOLVED)


@pytest.mark.parametrize("similarity", VALUE_SIMILARITIES)
@pytest.mark.parametrize(("family", "side"), [("item_knn_values", "item"), ("user_knn_values", "user")])
def test_models_of_values_answer_by_their_own_likeness(family, side, similarity):
    matrix = unrounded(rated_matrix(9, n_users=18, n_items=11))
    dense, observed = dense_of(matrix)
    model = build(family, {"neighbours": 3, "similarity": similarity, "shrinkage": 2.0}).fit(matrix)
    rows, seen = (dense.T, observed.T) if side == "item" else (dense, observed)
    plain = IN_COMMON.get(similarity, similarity)
    shrunk = naive.likenesses(plain, rows, seen, shrinkage=2.0, least=2, signed=True)[4]
    raw = naive.likenesses(plain, rows, seen, least=2, signed=True)[4]
    similar = Fitted("m", model, matrix).similar(side, f"{side[0]}4", 20)
    at = [int(each[1:]) for each in similar[side]]
    # every one that has something in common, those that differ last, and not only the three that are kept as neighbours
    order = tie_order(matrix.items if side == "item" else matrix.users)
    listed = [row for row in range(len(shrunk)) if shrunk[row] != 0 and row != 4]
    assert at == sorted(listed, key=lambda row: (-np.float32(shrunk[row]), order[row]))
    np.testing.assert_allclose(similar["likeness"], shrunk[at], rtol=SINGLE, atol=SINGLE)
    np.testing.assert_allclose(similar["raw"], raw[at], rtol=SUMMED, atol=SUMMED)
    assert similar["overlap"].to_list() == [int((seen[4] & seen[row]).sum()) for row in at]
    if similarity == "pearson":
        assert (shrunk < 0).any()
    other = "user" if side == "item" else "item"
    assert "raw" not in Fitted("m", model, matrix).similar(other, f"{other[0]}4", 3).columns


def test_a_likeness_goes_by_its_former_name_too():
    assert build("item_knn_values", {"similarity": "msd"}).params()["similarity"] == "mean_squared_difference"


def test_biases_and_means_agree_with_plain_loops():
    matrix = rated_matrix(9)
    dense, observed = dense_of(matrix)
    mean, user, item = naive.damped_biases(dense, observed, 3.0)
    actual = build("biases", {"damping": 3.0}).fit(matrix).scores(EVERYONE)
    np.testing.assert_allclose(actual, mean + user[:, None] + item[None], rtol=SUMMED)
    actual = build("mean_value", {"prior": 4.0}).fit(matrix).scores(EVERYONE[:1])[0]
    expected = [(dense[observed[:, i], i].sum() + 4 * mean) / (observed[:, i].sum() + 4) for i in range(14)]
    np.testing.assert_allclose(actual, expected, rtol=SINGLE)


def test_als_values_solves_each_side_exactly():
    matrix = rated_matrix(9)
    dense, observed = dense_of(matrix)
    model = build("als_values", {"rank": 3, "iterations": 2, "regularisation": 0.2}).fit(matrix)
    X, bu = model.user_factors_[:, :3].astype(float), model.user_factors_[:, 3] - model.biases_.mean
    Y, bi = naive.value_half_step(dense.T, observed.T, model.biases_.mean, X, bu, 0.2)
    # a half-step solved in 32 bits and in 64
    np.testing.assert_allclose(model.item_factors_[:, :3], Y, atol=2e-3)
    np.testing.assert_allclose(model.item_factors_[:, 4], bi, atol=2e-3)


def test_truncated_svd_is_the_best_of_its_rank():
    matrix = rated_matrix(9)
    dense, observed = dense_of(matrix)
    mean, user, item = naive.damped_biases(dense, observed, 5.0)
    plain = mean + user[:, None] + item[None]
    U, S, V = np.linalg.svd(np.where(observed, dense - plain, 0))
    actual = build("svd_values", {"rank": 3}).fit(matrix).scores(EVERYONE)
    np.testing.assert_allclose(actual, plain + (U[:, :3] * S[:3]) @ V[:3], atol=SOLVED)
    with pytest.raises(ParameterError, match="must be below 14"):
        build("svd_values", {"rank": 14}).fit(matrix)


def test_non_negative_factors_stay_so_and_solve_one_row():
    from scipy.optimize import nnls

    matrix = rated_matrix(9)
    model = build("nmf_values", {"rank": 3, "regularisation": 0.1}).fit(matrix)
    assert (model.user_factors_ >= 0).all()
    assert (model.item_factors_ >= 0).all()
    items, values = matrix.history(6)
    Y = model.item_factors_[items][:, :3].astype(float)
    stacked = np.vstack([Y, np.sqrt(0.1 * len(items)) * np.eye(3)])
    expected, _ = nnls(stacked, np.concatenate([values - 1, np.zeros(3)]))
    np.testing.assert_allclose(model.fold_in(items, values)[:3], expected, atol=SOLVED)


def test_item_sparse_agrees_with_one_elastic_net_an_item():
    matrix = rated_matrix(8, n_users=30, n_items=10)
    _, observed = dense_of(matrix)
    x = observed.astype(float)
    model = build("item_sparse", {"l1": 1.0, "l2": 2.0, "sweeps": 500}).fit(matrix)
    for i in range(10):
        expected = naive.elastic_net_column(x, i, 1.0, 2.0)
        actual = model.weights_to(i)
        assert actual[i] == 0
        np.testing.assert_allclose([actual[j] for j in expected], list(expected.values()), atol=SOLVED)


@pytest.mark.parametrize("solver", ["exact", "blocks", "cg"])
def test_the_solvers_of_als_agree(solver):
    matrix = random_matrix(1, n_users=40, n_items=20)
    # enough turns for all of them to reach the same minimum of the last side
    model = build("als", {"rank": 4, "solver": solver, "iterations": 1, "cg_steps": 50, "block": 4, "init_scale": 1.0})
    model.fit(matrix)
    dense, observed = dense_of(matrix)
    weights = naive.weights_of(dense, observed, "log")
    a0 = 3.0 * observed.mean()
    expected = naive.als_half_step(weights.T, observed.T, model.user_factors_.astype(float), a0, 0.03, 1.0)
    # iterative solvers in 32 bits, after enough turns, beside the exact solution in 64
    np.testing.assert_allclose(model.item_factors_, expected, rtol=5e-3, atol=5e-4)


def test_blocks_of_als_come_down_to_the_same_loss():
    matrix = random_matrix(1, n_users=40, n_items=20)
    losses = [
        build("als", {"rank": 6, "solver": solver, "block": 2, "iterations": 60}).fit(matrix).objective(matrix)
        for solver in ("exact", "blocks", "cg")
    ]
    # other solvers take other ways to the same minimum, and stop near it
    np.testing.assert_allclose(losses, losses[0], rtol=0.02)
