"""Likeness worked by hand, against formulas of its own and against what models go by."""

from __future__ import annotations

from dataclasses import replace
from math import log

import numpy as np
import pytest

from gleaner.core.errors import InputError
from gleaner.core.explain.likeness import work_likeness
from gleaner.core.models.base.registry import build
from gleaner.core.ranking.directions import likeness_to
from tolerances import SINGLE, SUMMED
from worlds import dense_of, features_for, random_matrix

MATRIX = replace(random_matrix(3, n_users=40, n_items=12, share=0.5), scale=(1.0, 5.0))
VALUES, HAS = dense_of(MATRIX)


def fitted(family, **params):
    return build(family, params).fit(MATRIX)


def dunning(both, a, b, n):
    """G2 as the sum over the four cells of observed times log of observed over expected, twice."""
    cells = [(both, a * b / n), (a - both, a * (n - b) / n), (b - both, (n - a) * b / n)]
    cells.append((n - a - b + both, (n - a) * (n - b) / n))
    g2 = 2 * sum(count * log(count / expected) for count, expected in cells if count)
    return 1 - 1 / (1 + g2) if both * n > a * b else 0.0


def by_hand(similarity, x, y, both):
    """x, y: values of all, 0 where there is none; both: who has both."""
    u, v = x[both], y[both]
    n, one, other = both.sum(), (x > 0).sum(), (y > 0).sum()
    return {
        "pearson": lambda: np.corrcoef(u, v)[0, 1] if np.ptp(u) and np.ptp(v) else 0.0,
        "cosine": lambda: u @ v / np.linalg.norm(u) / np.linalg.norm(v),
        "cosine_whole": lambda: x @ y / np.linalg.norm(x) / np.linalg.norm(y),
        "mean_squared_difference": lambda: 1 / (1 + np.mean((u - v) ** 2)),
        "euclidean": lambda: 1 / (1 + np.linalg.norm(u - v)),
        "jaccard": lambda: n / (one + other - n),
        "log_likelihood": lambda: dunning(n, one, other, len(x)),
        "confidence": lambda: n / other,
        "lift": lambda: n * len(x) / (one * other),
        "support": lambda: n / len(x),
    }[similarity]()


@pytest.mark.parametrize(
    ("family", "similarity"),
    [
        *[("item_knn_values", name) for name in ("pearson", "cosine", "cosine_whole", "euclidean", "jaccard")],
        *[("user_knn_values", name) for name in ("pearson", "mean_squared_difference")],
        *[("item_knn", name) for name in ("cosine", "jaccard", "log_likelihood")],
        *[("user_knn", name) for name in ("cosine", "jaccard", "log_likelihood")],
        *[("association", name) for name in ("confidence", "lift", "support")],
    ],
)
def test_the_last_step_is_the_formula_and_what_the_model_goes_by(family, similarity):
    more = {"weighting": "value"} if family in ("item_knn", "user_knn") else {}
    model = fitted(family, similarity=similarity, shrinkage=4.0, **more)
    side = "user" if family.startswith("user") else "item"
    values = VALUES if side == "user" else VALUES.T
    worked_out = 0
    for one, other in [(2, 3), (5, 9), (8, 4), (10, 11)]:
        worked = work_likeness(model, MATRIX, side, one, other)
        both = (values[one] > 0) & (values[other] > 0)
        assert worked.entries["entry"].to_list() == np.flatnonzero(both).tolist()
        assert worked.entries["one"].to_list() == values[one][both].tolist() or family == "association"
        if both.sum() < 3:
            continue
        worked_out += 1
        name = "cosine_whole" if more and similarity == "cosine" else similarity
        expected = by_hand(name, values[one], values[other], both) * both.sum() / (both.sum() + 4)
        assert worked.result == pytest.approx(expected, rel=SINGLE)
        # what the kernel takes logarithms of has 32 bits, and they nearly cancel
        assert worked.model_has == pytest.approx(expected, rel=SUMMED if similarity == "log_likelihood" else SINGLE)
    assert worked_out >= 2


def test_steps_can_be_redone_from_the_numbers_that_go_in():
    worked = work_likeness(fitted("item_knn_values", shrinkage=10.0), MATRIX, "item", 5, 9)
    entries, steps = worked.entries, {each.what: each.result for each in worked.steps}
    assert entries["one"].mean() == steps["mean of the one"]
    assert (entries["one_less_mean"] * entries["other_less_mean"]).sum() == pytest.approx(steps["sum of the products"])
    lengths = steps["length of the one"] * steps["length of the other"]
    assert steps["sum of the products"] / lengths == pytest.approx(steps["cosine"])
    n = entries.height
    assert steps["cosine"] * n / (n + 10) == pytest.approx(worked.result)


def test_factors_are_compared_by_their_cosine():
    model = fitted("als", rank=4, iterations=3)
    worked = work_likeness(model, MATRIX, "user", 4, 7)
    assert worked.entries_of == "factor"
    x, y = model.user_factors_[4].astype(float), model.user_factors_[7].astype(float)
    assert worked.result == pytest.approx(x @ y / np.linalg.norm(x) / np.linalg.norm(y))
    assert worked.model_has == pytest.approx(worked.result, rel=SINGLE)


def test_a_model_without_a_view_compares_who_has_what():
    worked = work_likeness(fitted("popular"), MATRIX, "item", 5, 9)
    both, one, other = (HAS[:, 5] & HAS[:, 9]).sum(), HAS[:, 5].sum(), HAS[:, 9].sum()
    assert worked.result == pytest.approx(both / np.sqrt(one * other))
    assert worked.model_has == pytest.approx(likeness_to(fitted("popular"), MATRIX, "item", 5)[0][9])


def test_two_that_have_too_little_in_common_are_not_alike():
    worked = work_likeness(fitted("item_knn_values"), MATRIX, "item", 0, 5)
    assert [(each.worked, each.result) for each in worked.steps] == [("0, fewer than the 2 that count", 0.0)]


def test_a_view_of_another_sort_is_refused_by_what_it_is():
    with pytest.raises(InputError, match="item_linear compares by weights of item_linear, which is no rule over rows"):
        work_likeness(fitted("item_linear"), MATRIX, "item", 5, 9)
    content = build("user_content", {}).fit(MATRIX, features=features_for(MATRIX))
    with pytest.raises(InputError, match="user_content compares by cosine of their columns, which is no rule"):
        work_likeness(content, MATRIX, "user", 5, 9)
    # on the other side it has no view
    assert work_likeness(content, MATRIX, "item", 5, 9).by == "cosine of who has them"
