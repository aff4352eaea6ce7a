"""Parameters of every family: out of range is refused by name; how cells are weighed agrees with plain loops."""

from __future__ import annotations

import numpy as np
import pytest

from gleaner.core.data.ties import tie_order
from gleaner.core.errors import InputError, ParameterError
from gleaner.core.models.base.parameters import parameters_of
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.models.base.weighting import TextWeights
from reference import models as naive
from tolerances import SINGLE, SUMMED
from worlds import dense_of, random_matrix, rated_matrix

DECLARED = [(family, name, value) for family in sorted(FAMILIES) for name, value in build(family, {}).params().items()]
NUMBERS = [(family, name) for family, name, value in DECLARED if type(value) in (int, float)]
CHOICES = [(family, name) for family, name, value in DECLARED if type(value) is str]


@pytest.mark.parametrize(("family", "name"), NUMBERS)
def test_a_number_out_of_range_is_refused_by_name(family, name):
    for wrong in (-1e9, float("nan"), float("inf"), "many", None, True, [1]):
        with pytest.raises(ParameterError, match=name) as refused:
            build(family, {name: wrong})
        assert refused.value.where == name


@pytest.mark.parametrize(("family", "name"), CHOICES)
def test_a_choice_that_is_none_is_refused_by_name(family, name):
    for wrong in ("nonsense", 3.5, [1], {"a": 1}):
        with pytest.raises(ParameterError, match=name) as refused:
            build(family, {name: wrong})
        assert refused.value.where == name


@pytest.mark.parametrize(
    ("family", "params", "message"),
    [
        ("als", {"ranks": 4}, "als has no parameter 'ranks'"),
        ("als", {"rank": 4.0}, "rank must be a whole number"),
        ("popular", {"kind": 3}, "kind must be the name of a kind, not 3"),
        ("popular", {"window_days": 0}, "window_days must be a number"),
        ("blend", {"weights": 3.5}, "weights must be a list of numbers, not 3.5"),
        ("blend", {"weights": [1, float("nan")]}, r"weights\[1\] must be a number"),
        ("blend", {"members": "als"}, "members"),
        ("blend_ranks", {"members": []}, "members"),
        ("association", {"weighting": "bm25"}, "association has no parameter 'weighting'; there are: neighbours"),
    ],
)
def test_what_else_does_not_fit(family, params, message):
    with pytest.raises(ParameterError, match=message):
        build(family, params)


def test_defaults_are_within_their_own_ranges_and_come_back():
    for family in FAMILIES:
        params = build(family, {}).params()
        assert build(family, params).params() == params


@pytest.mark.parametrize("weighting", ["tfidf", "bm25"])
def test_text_weights_agree_with_plain_loops(weighting):
    for seed in (1, 2):
        matrix = random_matrix(seed, n_users=30, n_items=12)
        dense, observed = dense_of(matrix)
        expected = naive.text_weights(dense, observed, weighting)[matrix.user_rows, matrix.indices]
        learned = TextWeights.learn(matrix, weighting, "item_knn")
        np.testing.assert_allclose(learned.of(matrix), expected, rtol=SINGLE)
        # a history that is folded in is weighed with what training counted
        for user in (0, 7):
            items, values = matrix.history(user)
            cells = matrix.user_rows == user
            np.testing.assert_allclose(learned.weigh(values, items), expected[cells], rtol=SINGLE)


@pytest.mark.parametrize("weighting", ["tfidf", "bm25"])
@pytest.mark.parametrize("by", ["item_knn", "user_knn"])
def test_neighbours_of_weighed_cells_agree_with_plain_loops(by, weighting):
    matrix = rated_matrix(8, n_users=20, n_items=12)
    dense, observed = dense_of(matrix)
    weights = naive.text_weights(dense, observed, weighting)
    model = build(by, {"neighbours": 19, "shrinkage": 3.0, "weighting": weighting}).fit(matrix)
    rows, seen = (weights.T, observed.T) if by == "item_knn" else (weights, observed)
    alike = naive.likenesses("cosine", rows, seen, shrinkage=3.0)
    near = naive.top_neighbours(alike, 19, tie_order(matrix.items if by == "item_knn" else matrix.users))
    kept = np.array([[alike[a, b] if b in near[a] else 0 for b in range(len(alike))] for a in range(len(alike))])
    expected = weights @ kept.T if by == "item_knn" else kept @ weights
    # sums over weighed histories: one digit less than a plain sum
    np.testing.assert_allclose(model.scores(np.arange(20, dtype=np.int32)), expected, rtol=2e-4, atol=SUMMED)


@pytest.mark.parametrize("weighting", ["value", "log", "tfidf", "bm25"])
def test_a_negative_value_is_no_weight(weighting):
    matrix = random_matrix(1)
    matrix.values[3] = -1
    with pytest.raises(InputError, match=r"cannot be negative \(found -1\)"):
        build("item_knn", {"weighting": weighting}).fit(matrix)


def test_a_parameter_of_before_with_its_one_value_is_taken_as_stored_models_have_it():
    stored = {"neighbours": 5, "asymmetry": 0.5, "weighting": "binary"}
    assert build("association", stored).params() == build("association", {"neighbours": 5}).params()


def test_every_parameter_of_every_family_says_what_it_means():
    silent = [
        f"{name}.{each.name}" for name, cls in FAMILIES.items() for each in parameters_of(cls) if not each.meaning
    ]
    assert silent == []
    assert [name for name, cls in FAMILIES.items() if not cls.effort] == []
