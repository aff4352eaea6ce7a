"""RMSE, MAE, R2 and their bins against plain loops."""

from __future__ import annotations

import math

import numpy as np
import polars as pl
import pytest

from gleaner.core.errors import DataError
from gleaner.core.metrics.values import (
    by_bins,
    even_starts,
    per_user_errors,
    predictions,
    quarter_starts,
    value_intervals,
)
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.watching import HeldOutCells
from tolerances import KEPT, SINGLE, SUMMED
from worlds import rated_matrix


@pytest.fixture(scope="module")
def scored():
    matrix = rated_matrix(5)
    random = np.random.default_rng(4)
    users = random.integers(0, matrix.shape[0], 200).astype(np.int32)
    items = random.integers(0, matrix.shape[1], 200).astype(np.int32)
    values = random.integers(1, 6, 200).astype(np.float32)
    model = build("als_values", {"rank": 3}).fit(matrix)
    return model, HeldOutCells(users, items, values), predictions(model, HeldOutCells(users, items, values))


def test_values_are_predicted_for_every_pair_in_order_of_users(scored):
    model, held_out, predicted = scored
    assert predicted.users.tolist() == sorted(held_out.users.tolist())
    pairs = sorted(zip(held_out.users, held_out.items, held_out.values, strict=True), key=lambda each: each[0])
    rated = model.rate(np.array([p[0] for p in pairs]), np.array([p[1] for p in pairs]))
    np.testing.assert_allclose(predicted.predicted, rated.values, rtol=KEPT)
    assert predicted.actual.tolist() == [float(p[2]) for p in pairs]
    with pytest.raises(DataError, match="no held-out value belongs to a user and an item that training knows"):
        predictions(model, HeldOutCells(held_out.users[:0], held_out.items[:0], held_out.values[:0]))


def test_errors_agree_with_plain_loops(scored):
    _, _, predictions = scored
    frame = per_user_errors(predictions)
    for row, rmse, mae, actual, predicted in frame.iter_rows():
        mine = [at for at, user in enumerate(predictions.users) if user == row]
        errors = [predictions.predicted[at] - predictions.actual[at] for at in mine]
        assert rmse == pytest.approx(math.sqrt(sum(e * e for e in errors) / len(errors)))
        assert mae == pytest.approx(sum(map(abs, errors)) / len(errors))
        assert actual == pytest.approx([predictions.actual[at] for at in mine])
        assert predicted == pytest.approx([predictions.predicted[at] for at in mine], rel=KEPT)
    whole = value_intervals(frame["actual"], frame["predicted"], seed=1)
    errors = predictions.predicted - predictions.actual
    n, mean = len(errors), sum(predictions.actual) / len(errors)
    assert whole["rmse"].mean == pytest.approx(math.sqrt(sum(e * e for e in errors) / n), rel=SINGLE)
    assert whole["mae"].mean == pytest.approx(sum(map(abs, errors)) / n, rel=SINGLE)
    r2 = 1 - sum(e * e for e in errors) / sum((value - mean) ** 2 for value in predictions.actual)
    assert whole["r2"].mean == pytest.approx(r2, rel=SUMMED)
    for interval in whole.values():
        assert interval.low < interval.mean < interval.high


def test_a_perfect_prediction_and_equal_values():
    lists = pl.Series([[1.0, 2.0], [5.0]])
    whole = value_intervals(lists, lists, seed=1)
    assert (whole["rmse"].mean, whole["mae"].mean, whole["r2"].mean) == (0, 0, 1)
    # without any spread there is nothing for R2 to explain
    equal = pl.Series([[3.0, 3.0], [3.0]])
    assert set(value_intervals(equal, lists, seed=1)) == {"rmse", "mae"}


def test_bins_hold_every_pair_once(scored):
    _, _, predicted = scored
    for values, starts in (
        (predicted.actual, even_starts(predicted.actual)),
        (predicted.predicted, even_starts(predicted.predicted)),
        (predicted.predicted, quarter_starts(predicted.predicted)),
    ):
        rows = by_bins(values, starts, predicted.actual, predicted.predicted)
        assert rows["n"].sum() == 200
        for place, row in enumerate(rows.iter_rows(named=True)):
            end = rows["at"][place + 1] if place + 1 < rows.height else math.inf
            mine = [at for at, value in enumerate(values) if row["at"] <= value < end]
            assert row["n"] == len(mine)
            assert row["actual"] == pytest.approx(sum(predicted.actual[at] for at in mine) / len(mine))
            squared = [(predicted.predicted[at] - predicted.actual[at]) ** 2 for at in mine]
            assert row["rmse"] == pytest.approx(math.sqrt(sum(squared) / len(mine)))
    assert even_starts(predicted.actual).tolist() == [1, 2, 3, 4, 5]
    assert len(even_starts(predicted.predicted)) == 10
