"""What a fit reports while it runs: losses of training and held-out cells, warnings, early stopping."""

from __future__ import annotations

import dataclasses
import itertools

import numpy as np
import pytest

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import CancelledError
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.models.base.watching import HeldOutCells, Watch
from tolerances import SUMMED
from worlds import rated_matrix

EVERYONE = np.arange(40, dtype=np.int32)
ITERATIVE = [
    name for name in sorted(FAMILIES) if "iterations" in {field.name for field in dataclasses.fields(FAMILIES[name])}
]


def small(name: str) -> dict:
    """Parameters that fit a small matrix; what learns by sampling, in steps that are large beside its noise."""
    rank = {"rank": 4} if "rank" in build(name, {}).params() else {}
    return rank | ({"learning_rate": 0.05} if name.startswith("boltzmann") else {})


@pytest.mark.parametrize("name", ITERATIVE)
def test_losses_are_told_fall_and_can_stop_the_fit(name):
    matrix = rated_matrix(2)
    watch = Watch(end_round=lambda _: None)
    build(name, small(name) | {"iterations": 12}).fit(matrix, watch=watch)
    losses = [each.losses["training"] for each in watch.rounds]
    assert [each.iteration for each in watch.rounds] == list(range(1, 13))
    assert losses[-1] < losses[0]
    with pytest.raises(CancelledError):
        build(name, small(name)).fit(matrix, watch=Watch(progress=lambda done, iteration: iteration < 3))


@pytest.mark.parametrize("name", ["als", "als_values", "nmf_values"])
def test_exact_steps_never_raise_their_objective(name):
    for seed in (1, 2, 3):
        watch = Watch(end_round=lambda _: None)
        build(name, small(name) | {"iterations": 10, "seed": seed}).fit(rated_matrix(seed), watch=watch)
        losses = [each.losses["training"] for each in watch.rounds]
        assert all(later <= earlier * (1 + 1e-5) for earlier, later in itertools.pairwise(losses))


def test_patience_keeps_the_best_iteration():
    matrix, judged = rated_matrix(2), iter([0.1, 0.3, 0.2, 0.25, 0.9])
    states = []

    def judge(model):
        states.append(model.scores(EVERYONE))
        return {"ndcg@5": next(judged)}

    watch = Watch(judge=judge, decide_by="ndcg@5", patience=2)
    model = build("als", {"rank": 4, "iterations": 9}).fit(matrix, watch=watch)
    assert (watch.best, watch.stopped, len(watch.rounds)) == (2, True, 4)
    np.testing.assert_array_equal(model.scores(EVERYONE), states[1])


def test_a_diverging_loss_and_a_dead_factor_are_told():
    watch = Watch(end_round=lambda _: None)
    with np.errstate(all="ignore"):
        build("sgd_values", {"rank": 4, "learning_rate": 1.0, "iterations": 12}).fit(rated_matrix(2), watch=watch)
    assert any("loss" in text for text in watch.warnings)
    model, watch = build("als", {"rank": 4}).fit(rated_matrix(2)), Watch()
    model.warn_of_dead(watch)
    assert watch.warnings == []
    model.item_factors_[:, 2] = 0
    model.warn_of_dead(watch)
    assert watch.warnings == ["factor collapse: 1 of the factors carry nothing; lower the rank or the regularisation"]


def held_out(matrix: InteractionMatrix) -> tuple[InteractionMatrix, HeldOutCells]:
    """Every seventh cell held out."""
    out = np.arange(matrix.n_cells) % 7 == 3
    return matrix.only(~out), HeldOutCells(matrix.user_rows[out], matrix.indices[out], matrix.values[out])


PAIR_LOSSES = {
    "bpr": lambda s, o: np.log(1 + np.exp(o - s)),
    "warp": lambda s, o: max(0.0, 1.0 - s + o),
    "logistic": lambda s, o: np.log(1 + np.exp(-s)) + np.log(1 + np.exp(o)),
}
PAIR_LOSSES["feature_sum"] = PAIR_LOSSES["fm_ranking"] = PAIR_LOSSES["logistic"]
DRAWN_TOO = ["wide_deep", "deep_fm", "interaction_network"]
"""Networks that tell the logistic loss of a cell and of one draw, whether the user has it or not."""
OVER_ALL = [
    "two_towers", "graph_convolution", "variational_autoencoder", "denoising_autoencoder", "boltzmann",
    "self_attention",
]  # fmt: skip
"""Networks that tell minus the log of the softmax over all items."""


@pytest.mark.parametrize("name", [name for name in ITERATIVE if name != "item_sparse"])
def test_the_loss_of_cells_held_out_is_told_beside_that_of_training(name):
    train, held_out_cells = held_out(rated_matrix(5, n_users=60))
    watch = Watch(held_out=held_out_cells, end_round=lambda _: None)
    model = build(name, small(name) | {"iterations": 6}).fit(train, watch=watch)
    validation_losses = [each.losses.get("validation") for each in watch.rounds]
    scores = model.scores(np.arange(60, dtype=np.int32)).astype(float)
    assert validation_losses[-1] == model.held_out_loss(held_out_cells)
    if name in PAIR_LOSSES:
        losses, drawn = [], model._random().integers(0, len(train.items), len(held_out_cells.users))
        for user, item, other in zip(held_out_cells.users, held_out_cells.items, drawn, strict=True):
            if other != item and other not in train.history(user)[0]:
                losses.append(PAIR_LOSSES[name](scores[user, item], scores[user, other]))
        expected = np.mean(losses)
    elif name in DRAWN_TOO:
        drawn = np.random.Generator(np.random.PCG64([1, 77])).integers(0, 14, len(held_out_cells.users))
        others = zip(held_out_cells.users, held_out_cells.items, drawn, strict=True)
        pairs = [(scores[user, item], scores[user, other]) for user, item, other in others if item != other]
        expected = np.mean([(np.log1p(np.exp(-had)) + np.log1p(np.exp(other))) / 2 for had, other in pairs])
    elif name in OVER_ALL:
        cells = zip(held_out_cells.users, held_out_cells.items, strict=True)
        expected = np.mean([np.log(np.exp(scores[user]).sum()) - scores[user, item] for user, item in cells])
    elif name == "als":
        a0 = 3.0 * train.n_cells / (60 * len(train.items))
        hits = [
            (1 - scores[user, item]) ** 2 for user, item in zip(held_out_cells.users, held_out_cells.items, strict=True)
        ]
        expected = np.mean(hits) + a0 * (scores**2).sum() / train.n_cells
    else:
        cells = zip(held_out_cells.users, held_out_cells.items, held_out_cells.values, strict=True)
        expected = np.mean([(value - scores[user, item]) ** 2 for user, item, value in cells])
        assert model.held_out_loss(HeldOutCells(held_out_cells.users, held_out_cells.items)) is None
    assert validation_losses[-1] == pytest.approx(expected, rel=SUMMED)
    assert np.isfinite(validation_losses).all()
