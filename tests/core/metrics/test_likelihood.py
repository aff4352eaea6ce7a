"""Chances that users take items: pairs, calibration, figures and reliability against plain loops."""

from __future__ import annotations

import math

import numpy as np
import polars as pl
import pytest
from scipy.optimize import minimize

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.likelihood import LikelihoodPairs, LikelihoodScores, calibrated
from gleaner.core.models.base.capabilities import having_log_odds
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.models.base.registry import build
from gleaner.core.splits.truth import Truth, truth_of
from tolerances import EXACT, SINGLE
from worlds import ids, random_matrix, rows_of

CASES = {
    "logistic": {"rank": 4},
    "feature_sum": {"loss": "logistic", "rank": 4},
    "fm_ranking": {"loss": "logistic", "rank": 4},
    "second_stage": {"members": ["item_knn", "popular"], "folds": 2, "rounds": 3, "least": 1, "negatives": 5},
}
"""Families that have chances."""


def world(seed: int = 4, n_users: int = 40, n_items: int = 30) -> tuple[InteractionMatrix, Truth]:
    random = np.random.default_rng(seed)
    known = random.random((n_users, n_items)) < 0.2
    taken = (random.random((n_users, n_items)) < 0.1) & ~known
    user, item = np.nonzero(known)
    matrix = InteractionMatrix.from_sorted(user, item, np.ones(len(user)), ids("u", n_users), ids("i", n_items))
    rows = np.flatnonzero(taken.any(axis=1)).astype(np.int32)
    counts = taken.sum(axis=1)[rows]
    indices = np.nonzero(taken)[1].astype(np.int32)
    return matrix, Truth(rows, np.concatenate([[0], np.cumsum(counts)]), indices, 0, 0, 0)


def test_pairs_stand_for_every_candidate_of_a_user():
    matrix, truth = world()
    pairs = LikelihoodPairs.draw(truth, matrix, seed=3)
    for place, row in enumerate(truth.user_rows):
        mine = pairs.owners == place
        assert set(pairs.users[mine]) == {row}
        took = set(truth.indices[truth.indptr[place] : truth.indptr[place + 1]].tolist())
        assert set(pairs.items[mine & pairs.taken].tolist()) == took
        drawn = set(pairs.items[mine & ~pairs.taken].tolist())
        assert drawn
        assert not drawn & (took | set(matrix.history(row)[0].tolist()))
        n_candidates = 30 - len(matrix.history(row)[0])
        assert pairs.weights[mine].sum() == pytest.approx(n_candidates, rel=EXACT)


def test_the_calibration_makes_what_was_taken_most_likely():
    matrix, truth = world()
    pairs = LikelihoodPairs.draw(truth, matrix, seed=3)
    odds = np.random.default_rng(6).normal(size=len(pairs.users)) + 2

    def surprise(line):
        chances = [1 / (1 + math.exp(-(line[0] * each + line[1]))) for each in odds]
        return -sum(
            weight * math.log(chance if taken else 1 - chance)
            for chance, taken, weight in zip(chances, pairs.taken, pairs.weights, strict=True)
        )

    best = minimize(surprise, [1.0, 0.0])
    found = calibrated(pairs, odds)
    # the search stops where a step gains less than a millionth
    assert (found.slope, found.intercept) == pytest.approx(tuple(best.x), abs=1e-3)


def test_figures_are_means_over_the_candidates_of_a_user():
    pairs = LikelihoodPairs(
        users=np.array([4, 4, 4, 7, 7], np.int32),
        items=np.array([0, 1, 2, 0, 3], np.int32),
        taken=np.array([True, False, False, True, False]),
        weights=np.array([1.0, 2.0, 2.0, 1.0, 9.0]),
        owners=np.array([0, 0, 0, 1, 1]),
    )
    chances = np.array([0.5, 0.1, 0.2, 0.25, 0.0])
    scores = LikelihoodScores(pairs, chances, Calibration())
    figures = scores.per_user()
    np.testing.assert_allclose(figures["brier"], [(0.25 + 2 * 0.01 + 2 * 0.04) / 5, 0.5625 / 10], rtol=EXACT)
    expected = [-(math.log(0.5) + 2 * math.log(0.9) + 2 * math.log(0.8)) / 5, -math.log(0.25) / 10]
    # a chance of 0 is taken for one of a millionth of a millionth
    np.testing.assert_allclose(figures["log_loss"], expected, rtol=1e-9)
    assert scores.base_rate == pytest.approx(2 / 15)
    bins = scores.reliability()
    assert sum(each["pairs"] for each in bins) == pytest.approx(15)
    assert sum(each["pairs"] * each["taken"] for each in bins) == pytest.approx(2)
    assert sum(each["pairs"] * each["said"] for each in bins) == pytest.approx(float(pairs.weights @ chances))
    assert [each["said"] for each in bins] == sorted(each["said"] for each in bins)


@pytest.mark.parametrize("family", sorted(CASES))
def test_log_odds_put_items_in_the_order_of_the_scores(family):
    matrix = random_matrix(5, 30, 20)
    model = build(family, CASES[family]).fit(matrix)
    able = having_log_odds(model)
    row = 3
    scores = model.scores(np.array([row], np.int32))[0].astype(float)
    odds = able.log_odds(np.full(20, row), np.arange(20))
    # but for what is the user's own
    np.testing.assert_allclose(odds - odds[0], scores - scores[0], atol=SINGLE)


def test_a_chance_is_answered_for_whom_training_saw():
    matrix = random_matrix(5, 30, 20)
    fitted = Fitted("mine", build("logistic", {"rank": 4}).fit(matrix), matrix, Calibration(0.5, -1.0))
    answers = fitted.likelihood(["u3", "nobody", "u3", "nobody"], ["i4", "i4", "nothing", "nothing"])
    odds = fitted.model.log_odds(np.array([3]), np.array([4]))[0]
    assert answers["likelihood"].to_list() == [pytest.approx(1 / (1 + math.exp(1 - 0.5 * odds))), None, None, None]
    assert answers["reason"].to_list() == [None, "unknown user", "unknown item", "unknown user and item"]
    with pytest.raises(InputError, match=r"popular \(popular\) has no likelihood: its scores put items in order"):
        Fitted("popular", build("popular", {}).fit(matrix), matrix, Calibration()).likelihood("u3", "i4")
    with pytest.raises(InputError, match="has no likelihood with this loss"):
        Fitted("f", build("feature_sum", {"loss": "bpr", "rank": 4}).fit(matrix), matrix).likelihood("u3", "i4")
    with pytest.raises(InputError, match="it is calibrated in a contest that has a validation part"):
        Fitted("mine", fitted.model, matrix).likelihood("u3", "i4")


def test_a_list_is_asked_for_in_the_context_of_the_first_relevant_row():
    ones = np.ones(2)
    train = InteractionMatrix.from_sorted(np.array([3, 4]), np.array([0, 1]), ones, ids("u", 5), ids("i", 9))
    cells = [("u3", "i7"), ("u3", "i1"), ("u4", "i8"), ("u3", "i0"), ("u4", "i2")]
    part = rows_of(cells, days=[4.0, 2.0, 1.0, 0.0, 1.0])
    frame = part.frame.with_columns(measure=1.0)
    places = pl.Series("context.place", ["a", "b", "c", "what training has", "a tie that comes later"])
    truth = truth_of(part.with_frame(frame.with_columns(places)), train)
    assert dict(zip(truth.user_rows.tolist(), truth.context["place"].to_list(), strict=True)) == {3: "b", 4: "c"}
    assert truth_of(part.with_frame(frame), train).context is None
