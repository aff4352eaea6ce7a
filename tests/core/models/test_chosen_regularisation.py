"""The regularisation that `item_linear` chooses for itself, against a search in plain loops."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import DataError
from gleaner.core.models.base.registry import build
from gleaner.core.models.linear import chosen_regularisation
from gleaner.core.models.linear.chosen_regularisation import HeldOutHistories
from gleaner.core.models.linear.item_linear import ItemLinear
from reference import models as naive
from tolerances import EXACT, KEPT
from worlds import ids, random_matrix

LADDER = {step: 10 ** (step / 2) for step in range(-2, 13)}


def clustered_matrix(seed: int, n_users: int = 300, n_items: int = 60, scale: float = 1.0) -> InteractionMatrix:
    """Users take most items from one of six groups, so that more than popularity can be learned."""
    random = np.random.default_rng(seed)
    groups = random.integers(6, size=n_users)
    chance = np.where(groups[:, None] == np.arange(n_items) % 6, 0.35, 0.04)
    user, item = np.nonzero(random.random((n_users, n_items)) < chance)
    values = (scale * random.integers(1, 4, len(user))).astype(np.float32)
    return InteractionMatrix.from_cells(user, item, values, ids("u", n_users), ids("i", n_items))


def cells_of(matrix: InteractionMatrix) -> sparse.csr_array:
    values = np.ones(len(matrix.indices), dtype=np.float32)
    return sparse.csr_array((values, matrix.indices, matrix.indptr), shape=matrix.shape)


def ndcg_of(scores: np.ndarray, seen: np.ndarray, held: np.ndarray) -> float:
    """Mean nDCG@10 over the users."""
    figures = []
    for user, row in enumerate(scores):
        open_items = [item for item in range(len(row)) if not seen[user, item]]
        best = sorted(open_items, key=lambda item: -row[item])[:10]
        gain = sum(1 / math.log2(rank + 2) for rank, item in enumerate(best) if held[user, item])
        figures.append(gain / sum(1 / math.log2(rank + 2) for rank in range(min(10, int(held[user].sum())))))
    return sum(figures) / len(figures)


@pytest.mark.parametrize("dropout", [0.0, 0.5])
def test_the_chosen_candidate_is_the_best_of_the_ladder(dropout):
    matrix = clustered_matrix(3)
    divided = HeldOutHistories.of_cells(cells_of(matrix))
    train, held = divided.train.toarray().astype(float), divided.held_out
    seen = divided.histories.toarray() > 0
    figures = {
        step: ndcg_of(divided.histories.toarray() @ naive.linear_weights(train, value, dropout), seen, held)
        for step, value in LADDER.items()
    }
    best = max(figures, key=figures.get)
    assert len({round(each, 6) for each in figures.values()}) > 5
    model = ItemLinear(dropout=dropout).fit(matrix)
    assert model.chosen() == {"regularisation": pytest.approx(LADDER[best], rel=EXACT)}
    assert divided.ndcg(naive.linear_weights(train, LADDER[best], dropout)) == pytest.approx(figures[best], rel=EXACT)


def test_each_judged_user_keeps_a_cell_and_loses_one():
    matrix = clustered_matrix(5)
    divided = HeldOutHistories.of_cells(cells_of(matrix))
    lengths = np.diff(matrix.indptr)
    judged = lengths[lengths >= 2]
    held = divided.held_out.sum(axis=1)
    assert held.tolist() == [max(1, round(0.2 * length)) for length in judged.tolist()]
    assert (np.diff(divided.histories.indptr) == judged - held).all()
    assert not (divided.held_out & (divided.histories.toarray() > 0)).any()
    assert divided.train.nnz == matrix.indptr[-1] - held.sum()


def test_values_in_another_unit_are_ranked_alike():
    # a fixed regularisation made one of these two models useless; factors of 2 change no digit
    small, large = (clustered_matrix(4, scale=scale) for scale in (1 / 64, 64.0))
    models = [ItemLinear(weighting="value").fit(matrix) for matrix in (small, large)]
    chosen = [model.chosen()["regularisation"] for model in models]
    assert chosen[1] == pytest.approx(64.0**4 * chosen[0], rel=EXACT)
    np.testing.assert_allclose(models[0].weights_, models[1].weights_, rtol=KEPT, atol=KEPT)


def test_few_users_get_the_default():
    matrix = random_matrix(8, n_users=20, n_items=10)
    model = ItemLinear().fit(matrix)
    assert model.chosen() == {"regularisation": chosen_regularisation.DEFAULT}
    fixed = ItemLinear(regularisation=chosen_regularisation.DEFAULT).fit(matrix)
    assert (fixed.weights_ == model.weights_).all()
    assert fixed.chosen() == {}


def test_many_items_and_users_are_looked_at_in_part(monkeypatch):
    monkeypatch.setattr(chosen_regularisation, "MAX_ITEMS", 20)
    monkeypatch.setattr(chosen_regularisation, "MAX_USERS", 50)
    matrix = clustered_matrix(6)
    divided = HeldOutHistories.of_cells(cells_of(matrix))
    counts = np.bincount(matrix.indices, minlength=60)
    dense = cells_of(matrix).toarray()[:, np.sort(np.argsort(-counts, kind="stable")[:20])]
    assert divided.held_out.shape == (50, 20)
    assert divided.train.nnz == np.count_nonzero(dense) - divided.held_out.sum()
    assert ItemLinear().fit(matrix).weights_.shape == (60, 60)


def test_a_chosen_regularisation_survives_saving_and_serves_new_items():
    matrix = clustered_matrix(7)
    model = ItemLinear().fit(matrix)
    loaded = ItemLinear().load_state(model.state(), matrix)
    assert loaded.chosen() == model.chosen()
    users, values = np.array([3, 8, 9]), np.ones(3, dtype=np.float32)
    fixed = ItemLinear(regularisation=model.chosen()["regularisation"]).fit(matrix)
    for other in (loaded, fixed):
        np.testing.assert_allclose(other.column_of(users, values), model.column_of(users, values), rtol=KEPT)


@pytest.mark.parametrize("regularisation", [50.0, None])
def test_a_state_of_before_the_choice_is_read(regularisation):
    matrix = clustered_matrix(7)
    fixed = ItemLinear(regularisation=regularisation or 100.0).fit(matrix)
    loaded = ItemLinear(regularisation=regularisation).restore({"weights": fixed.weights_}, matrix)
    assert loaded.regularisation_ == fixed.regularisation_
    assert (loaded.weights_ == fixed.weights_).all()


@pytest.mark.parametrize("value", [float("nan"), 0.0, -1.0, float("inf")])
def test_a_state_with_an_impossible_regularisation_is_refused(value):
    matrix = clustered_matrix(7)
    state = {**ItemLinear().fit(matrix).state(), "regularisation": np.array([value])}
    with pytest.raises(DataError, match="regularisation"):
        ItemLinear().restore(state, matrix)


def test_members_say_what_they_chose():
    matrix = clustered_matrix(9)
    second = {"item_linear": {"dropout": 0.0}}
    blend = build("blend", {"members": ["popular", "item_linear", second]}).fit(matrix)
    assert blend.chosen() == {
        "item_linear.regularisation": ItemLinear().fit(matrix).regularisation_,
        "item_linear 2.regularisation": ItemLinear(dropout=0.0).fit(matrix).regularisation_,
    }
