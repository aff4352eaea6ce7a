"""Every gradient kernel, step by step, against plain loops that are derived from the losses."""

from __future__ import annotations

import numpy as np
import pytest

from gleaner.core.kernels import pair_steps, value_steps
from reference import steps as naive
from tolerances import SUMMED
from worlds import random_matrix, rated_matrix

SEED, RANK = 11, 5
CLOSE = {"rtol": 2e-4, "atol": 2e-5}
"""Some hundred steps in 32 bits, each rounded at the seventh digit, beside the same in 64."""


def factors(n: int, extra: list[float], seed: int) -> np.ndarray:
    """Factors with further columns: float32 (n, RANK + len(extra))."""
    drawn = np.random.default_rng(seed).normal(0, 0.4, (n, RANK))
    return np.column_stack([drawn, *(np.full(n, value) for value in extra)]).astype(np.float32)


def lists(matrix, values=None) -> list[list]:
    """The items, or values, of each user."""
    flat = matrix.indices if values is None else values
    return [flat[matrix.indptr[u] : matrix.indptr[u + 1]].tolist() for u in range(matrix.shape[0])]


def one_block(matrix) -> tuple[np.ndarray, np.ndarray, int]:
    """Every item in block 0."""
    n_items = matrix.shape[1]
    return np.zeros(n_items, np.int8), np.arange(n_items, dtype=np.int32), 0


@pytest.fixture
def matrix():
    return random_matrix(3, n_users=20, n_items=12)


@pytest.mark.parametrize("epochs", [1, 3])
def test_pairwise_steps(matrix, epochs):
    X, Y = factors(20, [1.0], 1), factors(12, [0.1], 2)
    plain_x, plain_y = X.astype(np.float64), Y.astype(np.float64)
    for epoch in range(epochs):
        cells = (0, 20, matrix.indptr, matrix.indices, *one_block(matrix))
        loss = pair_steps.pair_epoch(*cells, X, Y, np.float32(0.1), np.float32(0.03), np.uint64(SEED + epoch))
        plain = naive.pairwise_epoch(lists(matrix), plain_x, plain_y, SEED + epoch, 0.1, 0.03)
        assert loss == pytest.approx(plain, rel=SUMMED)
    np.testing.assert_allclose(X, plain_x, **CLOSE)
    np.testing.assert_allclose(Y, plain_y, **CLOSE)


def test_ranked_steps(matrix):
    X, Y = factors(20, [1.0], 3), factors(12, [0.1], 4)
    plain_x, plain_y = X.astype(np.float64), Y.astype(np.float64)
    how = (np.float32(1.0), 6, 12)
    cells = (0, 20, matrix.indptr, matrix.indices, *one_block(matrix))
    loss = pair_steps.warp_epoch(*cells, X, Y, np.float32(0.05), np.float32(0.01), np.uint64(SEED), *how)
    plain = naive.ranked_epoch(lists(matrix), plain_x, plain_y, SEED, 0.05, 0.01, 1.0, 6)
    assert loss == pytest.approx(plain, rel=SUMMED)
    np.testing.assert_allclose(X, plain_x, **CLOSE)
    np.testing.assert_allclose(Y, plain_y, **CLOSE)


def test_logistic_steps(matrix):
    X, Y = factors(20, [0.2, 1.0], 5), factors(12, [1.0, 0.1], 6)
    plain_x, plain_y = X.astype(np.float64), Y.astype(np.float64)
    weights = np.log1p(matrix.values).astype(np.float32)
    cells = (0, 20, matrix.indptr, matrix.indices, weights, *one_block(matrix))
    loss = pair_steps.logistic_epoch(*cells, X, Y, np.float32(0.05), np.float32(0.01), np.uint64(SEED), 3)
    plain = naive.logistic_epoch(lists(matrix), lists(matrix, weights), plain_x, plain_y, SEED, 0.05, 0.01, 3)
    assert loss == pytest.approx(plain, rel=SUMMED)
    np.testing.assert_allclose(X, plain_x, **CLOSE)
    np.testing.assert_allclose(Y, plain_y, **CLOSE)


def test_steps_on_values():
    matrix = rated_matrix(2, n_users=20, n_items=12)
    X, Y = factors(20, [], 7), factors(12, [], 8)
    bu, bi = factors(20, [], 9)[:, 0].copy(), factors(12, [], 10)[:, 0].copy()
    plain = [each.astype(np.float64) for each in (X, Y, bu, bi)]
    mean, block_of = np.float32(3.1), np.zeros(12, np.int8)
    cells = (0, 20, matrix.indptr, matrix.indices, matrix.values, block_of, 0, mean)
    loss = value_steps.value_epoch(*cells, X, Y, bu, bi, np.float32(0.02), np.float32(0.05))
    losses = naive.value_epoch(lists(matrix), lists(matrix, matrix.values), 3.1, *plain, 0.02, 0.05)
    assert loss == pytest.approx(losses, rel=SUMMED)
    for mine, other in zip((X, Y, bu, bi), plain, strict=True):
        np.testing.assert_allclose(mine, other, **CLOSE)


def test_steps_with_an_implicit_part():
    matrix = rated_matrix(4, n_users=20, n_items=12)
    P, Y, Z = factors(20, [], 11), factors(12, [], 12), factors(12, [], 13)
    bu, bi = factors(20, [], 14)[:, 0].copy(), factors(12, [], 15)[:, 0].copy()
    plain = [each.astype(np.float64) for each in (P, Y, Z, bu, bi)]
    order = np.random.default_rng(1).permutation(20)
    cells = (order, matrix.indptr, matrix.indices, matrix.values, np.float32(3.1))
    loss = value_steps.implicit_epoch(*cells, P, Y, Z, bu, bi, np.float32(0.02), np.float32(0.05))
    losses = naive.implicit_epoch(order, lists(matrix), lists(matrix, matrix.values), 3.1, *plain, 0.02, 0.05)
    assert loss == pytest.approx(losses, rel=SUMMED)
    for mine, other in zip((P, Y, Z, bu, bi), plain, strict=True):
        np.testing.assert_allclose(mine, other, **CLOSE)
