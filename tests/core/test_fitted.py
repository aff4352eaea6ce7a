"""A fitted model asked by ids, against dense scores and sorting."""

from __future__ import annotations

import numpy as np
import pytest

from gleaner.core.errors import InputError, ParameterError, UnknownNameError
from gleaner.core.explain.factors import view_of
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import Factors
from gleaner.core.models.base.registry import build
from reference import lists as naive
from tolerances import SINGLE, SOLVED, SUMMED
from worlds import dense_of, rated_matrix

MATRIX = rated_matrix(5, n_users=40)


@pytest.fixture(scope="module")
def ranking() -> Fitted:
    return Fitted("ranking", build("als", {"rank": 5}).fit(MATRIX), MATRIX)


@pytest.fixture(scope="module")
def rating() -> Fitted:
    return Fitted("rating", build("user_knn_values", {"neighbours": 8}).fit(MATRIX), MATRIX)


def scores_of(fitted: Fitted) -> np.ndarray:
    return fitted.model.scores(np.arange(40, dtype=np.int32))


def best(fitted: Fitted, scores: np.ndarray, n: int, left_out=(), side: str = "item") -> list[str]:
    ids, ties = (MATRIX.items, fitted.ties) if side == "item" else (MATRIX.users, fitted.user_ties)
    return [ids.id(row) for row in naive.top_n(scores.tolist(), ties, n, left_out)]


def test_items_for_one_for_several_and_for_all(ranking):
    scores = scores_of(ranking)
    everybody = ranking.recommend(n=4)
    for user in ("u5", "u17"):
        row = MATRIX.users.row(user)
        expected = best(ranking, scores[row], 4, MATRIX.history(row)[0].tolist())
        assert ranking.recommend(user, 4)["item"].to_list() == expected
        assert everybody.filter(user=user)["item"].to_list() == expected
        assert everybody.filter(user=user)["position"].to_list() == list(range(1, len(expected) + 1))
    both = ranking.recommend(["u17", "u5"], 14, include_known=True)
    assert both["user"].unique(maintain_order=True).to_list() == ["u17", "u5"]
    assert both.filter(user="u5")["item"].to_list() == best(ranking, scores[5], 14)


def test_given_candidates_are_put_in_order(ranking):
    given = ["i9", "i3", "no-such", "i12"]
    answer = ranking.recommend("u5", 14, include_known=True, candidates=given)
    assert answer["item"].to_list() == [i for i in best(ranking, scores_of(ranking)[5], 14) if i in given]
    with pytest.raises(InputError, match="ranking knows none of the 2 candidates given"):
        ranking.recommend("u5", candidates=["x", "y"])


def test_someone_new_is_served_from_what_they_touched(ranking):
    rows = np.array([3, 7], np.int32)
    for values in (None, [5.0, 1.0]):
        values_given = np.full(2, np.median(MATRIX.values)) if values is None else np.array(values)
        scores = ranking.model.scores_of(ranking.model.fold_in(rows, values_given.astype(np.float32)))
        actual = ranking.recommend_from(["i3", "no-such", "i7"], None if values is None else [5.0, 2.0, 1.0], 5)
        assert actual["item"].to_list() == best(ranking, scores, 5, [3, 7])
    with pytest.raises(ParameterError, match="1 values are given for 2 items"):
        ranking.recommend_from(["i3", "i7"], [1.0])
    with pytest.raises(ParameterError, match="values must be finite"):
        ranking.recommend_from(["i3"], [float("inf")])
    with pytest.raises(InputError, match="knows none of the 1 items given"):
        ranking.recommend_from(["no-such"])


def test_users_for_items_known_and_new(ranking):
    scores = scores_of(ranking)
    having = np.flatnonzero(dense_of(MATRIX)[1][:, 6]).tolist()
    assert ranking.audience("i6", 9)["user"].to_list() == best(ranking, scores[:, 6], 9, having, "user")
    assert ranking.audience("i6", 40, include_known=True).height == 40
    every = ranking.audience(n=3)
    assert every["item"].n_unique() == len(MATRIX.items)
    fresh = ranking.model.scores_of_item(
        ranking.model.fold_in_item(np.array([8, 9], np.int32), np.array([4, 5], np.float32))
    )
    actual = ranking.audience_from(["u8", "u9"], [4.0, 5.0], 40)["user"].to_list()
    assert actual == best(ranking, fresh, 40, [8, 9], "user")
    chosen = actual[2:20:3]
    assert ranking.audience_from(["u8", "u9"], [4.0, 5.0], 40, candidates=chosen[::-1])["user"].to_list() == chosen
    assert ranking.audience_from(["u8"], n=40, include_known=True).height == 40


@pytest.mark.parametrize(("side", "id"), [("item", "i4"), ("user", "u12")])
def test_what_is_alike_by_cosine_of_factors(ranking, side, id):
    factors = ranking.model.item_factors_ if side == "item" else ranking.model.user_factors_
    ids = MATRIX.items if side == "item" else MATRIX.users
    unit = factors / np.maximum(np.linalg.norm(factors, axis=1, keepdims=True), 1e-12)
    row = ids.row(id)
    expected = best(ranking, (unit @ unit[row]).astype(np.float32), 6, [row], side)
    one = ranking.similar(side, id, 6)
    assert one[side].to_list() == expected
    every = ranking.similar_all(side, n=6)
    assert every.filter(**{side: id})["like"].to_list() == expected
    np.testing.assert_allclose(
        every.filter(**{side: id})["likeness"].to_numpy(), one["likeness"].to_numpy(), rtol=SINGLE
    )


def test_values_and_averages(rating, ranking):
    dense, observed = dense_of(MATRIX)
    answer = rating.rate(["u5", "nobody", "u5"], ["i3", "i3", "no-such"])
    assert answer["answerable"].to_list() == [True, False, False]
    assert answer["reason"].to_list() == [None, "unknown user", "unknown item"]
    table = rating.averages(5)
    assert table["count"].to_list() == sorted(observed.sum(axis=0).tolist(), reverse=True)[:5]
    for row in table.iter_rows(named=True):
        item = MATRIX.items.row(row["item"])
        users = np.flatnonzero(observed[:, item])
        assert row["observed"] == pytest.approx(dense[users, item].mean(), rel=SINGLE)
        predicted = rating.rate([f"u{user}" for user in users], [row["item"]] * len(users))["value"]
        assert row["predicted"] == pytest.approx(predicted.mean(), rel=SINGLE)
    with pytest.raises(ParameterError, match="2 users and 1 items do not make pairs"):
        rating.rate(["u1", "u2"], ["i1"])
    with pytest.raises(InputError, match=r"ranking \(als\) ranks and does not predict values"):
        ranking.rate("u1", "i1")


def test_a_score_is_explained_as_a_sum_or_by_what_is_near(ranking):
    explanation = ranking.explain("u9", "i3")
    assert explanation.kind == "sum"
    assert explanation.terms["adds"].sum() + explanation.start == pytest.approx(explanation.result, abs=SINGLE)
    strength = np.abs(explanation.terms["adds"].to_numpy())
    assert (np.diff(strength) <= 0).all()
    by_likeness = Fitted("bpr", build("bpr", {"rank": 4}).fit(MATRIX), MATRIX)
    near = by_likeness.explain("u9", "i3")
    assert (near.kind, near.result) == ("nearest", None)
    assert set(near.terms["item"]) <= {MATRIX.items.id(row) for row in MATRIX.history(9)[0]}
    assert "not a sum of the history" in repr(near)
    # an item of the history is no reason for itself
    touched = [MATRIX.items.id(row) for row in MATRIX.history(9)[0]]
    own = by_likeness.explain("u9", touched[0])
    assert set(own.terms["item"]) == set(touched[1:])
    with pytest.raises(UnknownNameError, match="ranking was not trained on user 'nobody'"):
        ranking.explain("nobody", "i3")
    with pytest.raises(UnknownNameError, match="ranking was not trained on item 'no-such'"):
        ranking.explain("u9", "no-such")


def test_factors_are_turned_to_the_axes_of_the_scores():
    random = np.random.default_rng(4)
    X, Y = random.normal(size=(30, 4)).astype(np.float32), random.normal(size=(20, 4)).astype(np.float32)
    view = view_of(Factors(X, Y))
    np.testing.assert_allclose(view.users @ view.items.T, X @ Y.T, rtol=SOLVED, atol=SUMMED)
    singular = np.linalg.svd(X.astype(float) @ Y.T.astype(float), compute_uv=False)[:4]
    np.testing.assert_allclose(view.shares, singular**2 / (singular**2).sum(), rtol=SUMMED)
    top, bottom = view.ends(0, 3)
    by_hand = sorted(range(20), key=lambda row: -view.items[row, 0])
    assert (top.tolist(), bottom.tolist()) == (by_hand[:3], by_hand[:-4:-1])
    np.testing.assert_array_equal(view.map, view.items[:, :2])


def test_a_model_without_factors_has_none_to_show():
    plain = Fitted("plain", build("item_knn", {}).fit(MATRIX), MATRIX)
    with pytest.raises(InputError, match=r"plain \(item_knn\) has no factors to look at"):
        _ = plain.factor_view
