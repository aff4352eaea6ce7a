"""Each network against a naive one, and what its method promises on worlds where the answer is known."""

from __future__ import annotations

import dataclasses
import tracemalloc

import numpy as np
import polars as pl
import pytest
import torch
from scipy.optimize import minimize

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import features_of
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.watching import HeldOutCells, Watch
from gleaner.core.models.neural.pairs.crosses import crossed_features
from gleaner.core.models.neural.pairs.heads import DeepHead, MachineHead, ProductsHead
from reference import networks as naive
from tolerances import SINGLE, SOLVED, SUMMED
from worlds import features_for, ids, random_matrix, rated_matrix

EVERYONE = np.arange(40, dtype=np.int32)


def fitted(name: str, matrix: InteractionMatrix, **params):
    return build(name, params).fit(matrix, features=features_for(matrix))


def in_context(matrix: InteractionMatrix) -> InteractionMatrix:
    places = np.array(["stall", "field", None], dtype=object)[np.arange(matrix.n_cells) % 3]
    return dataclasses.replace(matrix, context=pl.DataFrame({"place": pl.Series(places, dtype=pl.String)}))


# what memorises a tiny set comes near a loss of zero


TINY = {
    "two_towers": {"rank": 8, "iterations": 300, "learning_rate": 0.05, "histories": False},
    "wide_deep": {"rank": 8, "iterations": 200, "learning_rate": 0.02},
    "deep_fm": {"rank": 8, "iterations": 200, "learning_rate": 0.02},
    "interaction_network": {"rank": 8, "iterations": 200, "learning_rate": 0.02},
    "wide_deep_values": {"rank": 8, "iterations": 300, "learning_rate": 0.02},
    "deep_fm_values": {"rank": 8, "iterations": 300, "learning_rate": 0.02},
    "graph_convolution": {"rank": 8, "layers": 1, "iterations": 300, "learning_rate": 0.05},
    "graph_values": {"rank": 8, "layers": 1, "iterations": 600, "learning_rate": 0.05},
    "variational_autoencoder": {"rank": 16, "layers": [32], "dropout": 0.0, "anneal_to": 0.0, "iterations": 300},
    "denoising_autoencoder": {"rank": 16, "dropout": 0.0, "iterations": 300},
    "boltzmann": {"rank": 32, "iterations": 600, "learning_rate": 0.05, "batch": 8},
    "boltzmann_values": {"rank": 32, "iterations": 600, "learning_rate": 0.05, "batch": 8},
    "self_attention": {"rank": 16, "dropout": 0.0, "iterations": 150, "learning_rate": 0.01},
}
"""One item for each user, or one next item after each, so that a perfect answer has a loss of zero."""


def tiny_world(name: str) -> InteractionMatrix:
    n = 8
    if name == "self_attention":
        # everyone goes round the same ring, from a place of their own
        user = np.repeat(np.arange(n), n)
        item = (user + np.tile(np.arange(n), n)) % n
        days = np.tile(np.arange(n), n).astype(float)
        order = np.lexsort((item, user))
        matrix = InteractionMatrix.from_sorted(user[order], item[order], np.ones(n * n), ids("u", n), ids("i", n))
        return dataclasses.replace(matrix, days=days[order])
    if name.endswith("_values"):
        return rated_matrix(2, n_users=n, n_items=n, share=0.5)
    users, items = ids("u", n), ids("i", n)
    return InteractionMatrix.from_cells(np.arange(n), np.arange(n), np.ones(n), users, items)


@pytest.mark.parametrize("name", sorted(TINY))
def test_a_network_learns_a_tiny_set_by_heart(name):
    matrix = tiny_world(name)
    params = TINY[name] | {"regularisation": 0.0, "patience": 0}
    params |= {} if name.startswith("boltzmann") else {"batch": 64}
    losses = []
    watch_losses = _watch(losses)
    build(name, params).fit(matrix, watch=watch_losses)
    # a place of its own knows what came before it but for the first; the ring tells the rest
    limit = {"graph_convolution": 0.15, "boltzmann": 0.02, "boltzmann_values": 0.05, "self_attention": 0.05}
    assert losses[0] > 3 * limit.get(name, 0.03)
    assert min(losses[-5:]) < limit.get(name, 0.03)


def _watch(losses: list[float]):
    return Watch(end_round=lambda done: losses.append(done.losses["training"]))


# towers


def test_towers_without_columns_and_layers_are_plain_factors_of_a_softmax():
    """The loss over one batch of all cells is that of plain factors: the same minimum is found by another method."""
    matrix = random_matrix(5, n_users=9, n_items=6, share=0.5)
    params = {"rank": 3, "histories": False, "item_columns": [], "user_columns": [], "batch": 10_000}
    params |= {"regularisation": 0.02, "learning_rate": 0.05, "iterations": 500, "patience": 0, "init_scale": 0.3}
    model = build("two_towers", params).fit(matrix)
    had = sorted(set(matrix.indices.tolist()))
    place = {item: at for at, item in enumerate(had)}
    users, items = matrix.user_rows, np.array([place[item] for item in matrix.indices])
    n_users, n_items = matrix.shape[0], len(had)

    def loss(flat):
        X = flat[: n_users * 3].reshape(n_users, 3)
        Y = flat[n_users * 3 : n_users * 3 + n_items * 3].reshape(n_items, 3)
        b = flat[n_users * 3 + n_items * 3 :]
        scores = X[users] @ Y.T + b
        told = np.log(np.exp(scores).sum(axis=1)) - scores[np.arange(len(items)), items]
        # the penalty is of the users of the batch, as often as they are there, and of its items once
        return told.mean() + 0.02 * ((X[users] ** 2).sum() / len(users) + (Y**2).sum() / n_items)

    start = np.random.default_rng(1).standard_normal(n_users * 3 + n_items * 4) * 0.1
    best = minimize(loss, start, method="L-BFGS-B", options={"maxiter": 5000, "maxfun": 1_000_000})
    X = best.x[: n_users * 3].reshape(n_users, 3)
    Y = best.x[n_users * 3 : n_users * 3 + n_items * 3].reshape(n_items, 3)
    expected = X[users] @ Y.T + best.x[n_users * 3 + n_items * 3 :]
    actual = model.scores(users)[:, had]
    # factors differ by a turn, and a constant of a user changes no softmax
    expected, actual = (table - table.mean(axis=1, keepdims=True) for table in (expected, actual))
    np.testing.assert_allclose(actual, expected, atol=0.03)


@pytest.mark.parametrize(("correction", "steep"), [(True, 1.0), (False, 0.0)])
def test_the_correction_undoes_how_often_items_are_in_a_batch(correction, steep):
    """What is taken depends on nothing but the item. Corrected, scores rise with the log of how often it is taken, as
    those of a softmax over all items do; without, items that are often in a batch are held down as often as they are
    taken."""
    random, n_items = np.random.default_rng(4), 40
    shares = (np.arange(1, n_items + 1) ** -1.0) / (np.arange(1, n_items + 1) ** -1.0).sum()
    users = np.repeat(np.arange(1500), 2)
    items = np.concatenate([random.choice(n_items, 2, replace=False, p=shares) for _ in range(1500)])
    matrix = InteractionMatrix.from_cells(users, items, np.ones(len(users)), ids("u", 1500), ids("i", n_items))
    params = {"rank": 1, "batch": 8, "iterations": 4, "learning_rate": 0.02, "correction": correction}
    model = build("two_towers", params | {"histories": False}).fit(matrix)
    often = np.argsort(-matrix.item_counts)[:20]
    scores = model.scores(np.arange(500, dtype=np.int32)).mean(axis=0)[often]
    slope = np.polyfit(np.log(matrix.item_counts[often]), scores, 1)[0]
    assert abs(slope - steep) < 0.35


# what has no observation moves nothing


def test_ratings_that_are_missing_never_move_a_weight():
    """An item that nobody rated keeps the weights it began with; so do its levels."""
    whole = rated_matrix(5)
    kept = whole.indices != 3
    matrix = whole.only(kept)
    model = build("boltzmann_values", {"rank": 4, "iterations": 5, "patience": 0})
    model.learn_biases(matrix)
    model.train_ = matrix
    model.prepare(matrix, None)
    before = model.initial_weights(np.random.Generator(np.random.PCG64([1, 0])))
    after = build("boltzmann_values", {"rank": 4, "iterations": 5, "patience": 0}).fit(matrix).weights_
    levels = slice(3 * 5, 4 * 5)
    np.testing.assert_array_equal(after["weights"][levels], before["weights"][levels])
    np.testing.assert_array_equal(after["levels_bias"][levels], before["levels_bias"][levels])
    others = np.ones(len(before["weights"]), bool)
    others[levels] = False
    assert (np.abs(after["weights"][others] - before["weights"][others]).sum(axis=1) > 0).mean() > 0.9


def test_a_rating_machine_predicts_the_mean_of_the_levels_by_their_chances():
    matrix = rated_matrix(6)
    model = build("boltzmann_values", {"rank": 4, "iterations": 3}).fit(matrix)
    W = model.weights_["weights"].reshape(14, 5, 4).astype(float)
    b = model.weights_["levels_bias"].reshape(14, 5)
    items, values = matrix.history(3)
    straight = model.weights_["hidden_bias"] + sum(W[i, int(v) - 1] for i, v in zip(items, values, strict=True))
    hidden = 1 / (1 + np.exp(-straight))
    chances = np.exp(W @ hidden + b)
    expected = (chances / chances.sum(axis=1, keepdims=True)) @ np.arange(1, 6)
    np.testing.assert_allclose(model.scores(np.array([3]))[0], expected, rtol=SINGLE)
    np.testing.assert_allclose(model.predict(np.full(14, 3), np.arange(14)), expected, rtol=SINGLE)
    np.testing.assert_allclose(model.scores_of(model.fold_in(items, values)), expected, rtol=SINGLE)


# what serving runs is what learning saw, and what plain NumPy makes of the same weights


def test_attention_in_onnx_in_torch_and_in_plain_numpy():
    matrix = rated_matrix(7)
    model = fitted("self_attention", matrix, rank=8, heads=2, blocks=2, length=5, iterations=3)
    for row in (4, 9):
        items, values = matrix.history_in_order(row)
        expected = naive.self_attention(model.weights_, model.item_factors_[:, :8], items, 2, 2, 5)
        np.testing.assert_allclose(model.fold_in(items, values)[:8], expected, rtol=SOLVED, atol=SUMMED)
        weights = {name: torch.from_numpy(array.copy()) for name, array in model.weights_.items()}
        weights["items"] = torch.from_numpy(model.item_factors_[:, :8].copy())
        shown = torch.from_numpy(items[-5:].astype(np.int64))[None]
        model.dropout, seen = 0.0, np.ones((1, len(items[-5:])), bool)
        in_torch = model._run(torch, weights, shown, seen, None)[0, -1]
        np.testing.assert_allclose(in_torch, expected, rtol=SOLVED, atol=SUMMED)


def test_the_order_of_a_history_is_what_attention_reads():
    model = fitted("self_attention", rated_matrix(7), rank=8, length=5, iterations=3)
    forth, back = (model.fold_in(np.array(rows), np.ones(4)) for rows in ([1, 5, 2, 8], [8, 2, 5, 1]))
    assert np.abs(forth - back).max() > 0.01
    np.testing.assert_array_equal(model.fold_in(np.array([3, 9, 1, 5, 2, 8]), np.ones(6)),
                                  model.fold_in(np.array([9, 1, 5, 2, 8]), np.ones(5)))  # fmt: skip


@pytest.mark.parametrize("name", ["variational_autoencoder", "denoising_autoencoder"])
def test_an_autoencoder_in_onnx_and_in_plain_numpy(name):
    matrix = rated_matrix(7)
    more = {"layers": [12, 9]} if name.startswith("variational") else {"layers": [12]}
    model = fitted(name, matrix, rank=5, iterations=3, weighting="log", **more)
    items, values = matrix.history(6)
    x = np.log1p(values.astype(float))
    x /= np.linalg.norm(x)
    hidden = np.tanh(x @ model.weights_["inputs"][items] + model.weights_["inputs_bias"])
    expected = naive.layers(model.weights_, "encoder", hidden, np.tanh)[:5]
    np.testing.assert_allclose(model.fold_in(items, values)[:5], expected, rtol=SOLVED, atol=SINGLE)
    np.testing.assert_allclose(model.user_factors_[6, :5], expected, rtol=SOLVED, atol=SINGLE)


@pytest.mark.parametrize("temperature", [None, 0.2])
def test_towers_in_onnx_in_torch_and_in_plain_numpy(temperature):
    matrix = rated_matrix(8)
    model = fitted(
        "two_towers", matrix, rank=4, user_layers=[6], item_layers=[5], iterations=2, temperature=temperature
    )
    columns = features_for(matrix)
    model.prepare(matrix, columns)
    sides = model._sides
    for row in (2, 11):
        items, _ = matrix.history(row)
        history = model.weights_["histories"][items].sum(axis=0) / np.sqrt(len(items))
        of_columns = sides[0].vectors(model.weights_["user_columns"])[row]
        x = naive.layers(
            model.weights_, "user", np.concatenate([model.weights_["user_ids"][row], history, *of_columns])
        )
        x = x if temperature is None else x / np.linalg.norm(x) / temperature
        np.testing.assert_allclose(model.user_factors_[row, :4], x, rtol=SOLVED, atol=SINGLE)
        y = naive.layers(model.weights_, "item", np.concatenate(
            [model.weights_["item_ids"][row], *sides[1].vectors(model.weights_["item_columns"])[row]]))  # fmt: skip
        y = y if temperature is None else y / np.linalg.norm(y)
        np.testing.assert_allclose(model.item_factors_[row, :4], y, rtol=SOLVED, atol=SINGLE)
    cells = np.arange(matrix.n_cells)
    tensors = {name: torch.from_numpy(array.copy()) for name, array in model.weights_.items()}
    in_torch = model._users_in(torch, tensors, matrix.user_rows[cells], matrix.indices[cells].astype(np.int64))
    assert in_torch.shape == (matrix.n_cells, 4)


@pytest.mark.parametrize(("sort", "head"), [("deep", DeepHead), ("machine", MachineHead), ("products", ProductsHead)])
@pytest.mark.parametrize("layers", [[], [6], [6, 4]])
def test_heads_in_onnx_in_torch_and_in_plain_numpy(sort, head, layers):
    random = np.random.default_rng(1)
    left, right = (random.standard_normal((n, m, 5)).astype(np.float32) for n, m in ((3, 4), (7, 2)))
    ours = head(layers, 4, 2, 4)
    weights = ours.initial_weights(random)
    weights |= {name: array + 0.1 for name, array in weights.items() if name.endswith("bias")}
    expected = np.array([[naive.pair_score(sort, weights, x, y) for y in right] for x in left])
    tensors = {name: torch.from_numpy(array) for name, array in weights.items()}
    in_torch = ours.run(torch, tensors, torch.from_numpy(left), torch.from_numpy(np.stack([right] * 3)))
    np.testing.assert_allclose(in_torch, expected, rtol=SUMMED, atol=SINGLE)
    ours.take(weights, right)
    np.testing.assert_allclose(ours.scores(left), expected, rtol=SUMMED, atol=SINGLE)
    np.testing.assert_allclose(ours.pairs(left, right[:3]), np.diag(expected[:, :3]), rtol=SUMMED, atol=SINGLE)


PAIRED = ["wide_deep", "deep_fm", "interaction_network", "wide_deep_values", "deep_fm_values"]


@pytest.mark.parametrize("name", PAIRED)
def test_a_score_of_a_pair_is_that_of_its_list_and_the_sum_of_what_its_vectors_add(name):
    matrix = in_context(rated_matrix(8))
    model = fitted(name, matrix, rank=4, iterations=3)
    context = pl.DataFrame({"place": ["field"]})
    for row in (2, 11):
        table = model.scores_in(np.array([row]), context)[0]
        pairs = model.paired(np.full(14, row), np.arange(14), context[np.zeros(14, int)])
        np.testing.assert_allclose(table, pairs, rtol=SUMMED, atol=SINGLE)
        some = np.array([9, 0, 4], np.int32)
        known = model.as_folded(row)
        np.testing.assert_allclose(model.scores_among(known, some, context), table[some], rtol=SUMMED, atol=SINGLE)
        anywhere = model.scores(np.array([row]))[0, some]
        np.testing.assert_allclose(model.scores_among(known, some, None), anywhere, rtol=SUMMED, atol=SINGLE)
        terms = model.terms_in(row, 5, context)
        assert terms.result == pytest.approx(table[5], abs=SUMMED)
        assert terms.names[:2] == ["user", "what they had"]
        assert len(terms.names) == len(terms.columns["adds"])
    plain = model.scores(np.array([2]))[0]
    assert np.abs(plain - model.scores_in(np.array([2]), context)[0]).max() > 0


def test_what_learning_saw_of_a_pair_is_what_serving_scores():
    """A cell whose own item is left out of the history is scored as someone who has the rest."""
    matrix = in_context(rated_matrix(8))
    model = build("wide_deep", {"rank": 4, "iterations": 2})
    model.fit(matrix, features=features_for(matrix))
    weights = {name: array.copy() for name, array in model.weights_.items()}
    model.prepare(matrix, features_for(matrix))
    model._crossed = tuple(map(crossed_features, (model._inputs.users, model._inputs.items)))
    cells = np.array([5, 60, 111])
    tensors = {name: torch.from_numpy(array) for name, array in weights.items()}
    in_torch, _ = model.told_in(torch, tensors, cells, matrix.indices[cells][:, None])
    model.update()
    for place, cell in enumerate(cells):
        row, item = int(matrix.user_rows[cell]), int(matrix.indices[cell])
        rest = np.setdiff1d(matrix.history(row)[0], [item])
        users = model.users_[[row]].copy()
        folded = model._folded(users, model.crossed_[[row]], rest, np.ones(len(rest)))
        served = model.scores_of_in(folded, matrix.context[[int(cell)]])[item]
        assert served == pytest.approx(float(in_torch[place, 0]), abs=SUMMED)


def test_crosses_learn_what_no_sum_of_weights_can():
    """Growers of one region take peas, those of the other beans, and both as often: only the meeting says which."""
    n_users, n_items = 60, 20
    random = np.random.default_rng(3)
    user, item = [], []
    for u in range(n_users):
        for i in random.choice(np.arange(u % 2, n_items, 2), 5, replace=False):
            user.append(u)
            item.append(i)
    matrix = InteractionMatrix.from_cells(
        np.array(user), np.array(item), np.ones(len(user)), ids("u", n_users), ids("i", n_items)
    )
    items = pl.DataFrame({"id": matrix.items.ids.to_pylist(), "kind": [("pea", "bean")[i % 2] for i in range(n_items)]})
    users = pl.DataFrame({"id": matrix.users.ids.to_pylist(), "region": [f"r{u % 2}" for u in range(n_users)]})
    columns = features_of(matrix.items, matrix.users, items, users)
    model = build("wide_deep", {"rank": 1, "layers": [], "iterations": 60, "learning_rate": 0.02, "batch": 64})
    model.fit(matrix, features=columns)
    scores = model.scores(np.arange(n_users))
    mine = np.array([[scores[u, u % 2 :: 2].mean(), scores[u, 1 - u % 2 :: 2].mean()] for u in range(n_users)])
    assert (mine[:, 0] - mine[:, 1] > 1).all()


def test_a_validation_loss_is_the_mean_of_minus_log_softmax():
    model = fitted("denoising_autoencoder", rated_matrix(7), rank=5, iterations=2)
    held = HeldOutCells(np.array([3, 8], np.int32), np.array([2, 9], np.int32))
    scores = model.scores(held.users).astype(float)
    expected = np.mean([np.log(np.exp(row).sum()) - row[i] for row, i in zip(scores, held.items, strict=True)])
    assert model.held_out_loss(held) == pytest.approx(expected, rel=SINGLE)


def test_what_a_state_must_be_is_known_without_making_its_weights():
    """A small file that names huge parameters costs nothing."""
    matrix = random_matrix(1)
    model = build("self_attention", {"rank": 2048, "blocks": 4, "length": 50})
    tracemalloc.start()
    layout = model.layout(matrix)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert layout["block.3.query"].shape == (2048, 2048)
    # one of its 24 matrices alone has 33 MB in float64
    assert peak < 2**20
