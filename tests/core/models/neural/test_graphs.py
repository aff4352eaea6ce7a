"""Networks along the graph of users and items: against the dense graph, and their gradients by finite differences."""

from __future__ import annotations

import numpy as np
import pytest
import torch

from gleaner.core.models.base.registry import build
from gleaner.core.models.neural.machinery.network_model import Draws
from gleaner.core.models.neural.machinery.propagation import Graph, propagated
from reference import networks as naive
from tolerances import SINGLE, SUMMED
from worlds import dense_of, random_matrix, rated_matrix


def test_propagation_is_that_of_the_dense_graph():
    matrix = random_matrix(3)
    observed = dense_of(matrix)[1]
    adjacency, random = naive.normed_adjacency(observed), np.random.default_rng(0)
    users, items = (random.standard_normal((n, 4)).astype(np.float32) for n in matrix.shape)
    for steps in (1, 2, 3):
        expected = naive.propagated(adjacency, np.concatenate([users, items]), steps)
        x, y = propagated(Graph.of(matrix).in_torch(torch), torch.from_numpy(users), torch.from_numpy(items), steps)
        np.testing.assert_allclose(np.concatenate([x, y]), expected, atol=SINGLE)


@pytest.mark.parametrize("name", ["graph_convolution", "graph_values"])
def test_steps_along_the_graph_go_down_the_gradient_by_finite_differences(name):
    """The way back through the graph is written by hand: it is the derivative of the loss in every direction tried."""
    matrix = rated_matrix(3, n_users=8, n_items=6)
    model = build(name, {"rank": 3, "layers": 2, "regularisation": 0.1, "init_scale": 0.5, "patience": 0})
    if name == "graph_values":
        model.learn_biases(matrix)
    model.train_ = matrix
    model.prepare(matrix, None)
    weights = model.initial_weights(np.random.default_rng(2))
    units = np.arange(matrix.n_cells, dtype=np.int32)
    caught = {}

    class Catching:
        def __init__(self):
            self.tensors = {part: torch.from_numpy(array) for part, array in weights.items()}

        def step_by(self, gradients):
            caught.update(gradients)

    model.step(Catching(), units, Draws.of(torch, 1, 1))
    observed = dense_of(matrix)[1]
    adjacency, n_users = naive.normed_adjacency(observed), matrix.shape[0]
    drawn = Draws.of(torch, 1, 1).random.integers(0, 6, len(units))

    def loss(parts):
        z = naive.propagated(adjacency, np.concatenate([parts["users"], parts["items"]]), 2)
        x, y, e, f = z[:n_users], z[n_users:], parts["users"], parts["items"]
        u, i = matrix.user_rows, matrix.indices
        square = 0.05 * ((e[u] ** 2).sum() + (f[i] ** 2).sum()) / len(u)
        if name == "graph_convolution":
            lead = ((y[i] - y[drawn]) * x[u]).sum(axis=1)
            return np.log1p(np.exp(-lead)).mean() + square + 0.05 * (f[drawn] ** 2).sum() / len(u)
        told = model.biases_.mean + parts["user_bias"][u] + parts["item_bias"][i] + (x[u] * y[i]).sum(axis=1)
        biases = 0.05 * ((parts["user_bias"][u] ** 2).sum() + (parts["item_bias"][i] ** 2).sum()) / len(u)
        return ((told - matrix.values) ** 2).mean() + square + biases

    parts = {part: array.astype(float) for part, array in weights.items()}
    for part, array in parts.items():
        for at in list(np.ndindex(array.shape))[:: max(1, array.size // 10)]:
            near = []
            for step in (1e-5, -1e-5):
                moved = array.copy()
                moved[at] += step
                near.append(loss(parts | {part: moved}))
            assert caught[part].numpy()[at] == pytest.approx((near[0] - near[1]) / 2e-5, abs=SUMMED)


def test_someone_new_is_told_what_the_graph_hands_on_to_a_vector_of_zero():
    """With one step, a user whose own vector is zero is what propagation over their items makes of them."""
    matrix = random_matrix(4)
    model = build("graph_convolution", {"rank": 4, "layers": 1, "iterations": 3}).fit(matrix)
    row = int(np.argmax(np.diff(matrix.indptr)))
    own = model.weights_["users"][row] / 2
    np.testing.assert_allclose(model.fold_in(*matrix.history(row))[:4], model.user_factors_[row, :4] - own, atol=SINGLE)
