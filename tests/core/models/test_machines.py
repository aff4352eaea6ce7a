"""Factorisation machines against plain loops over every pair of features."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import DataError, ParameterError
from gleaner.core.kernels.factorisation import draw_features
from gleaner.core.models.base.registry import build
from tolerances import SINGLE, SOLVED, SUMMED
from worlds import features_for, ids

SMALL = {"rank": 3, "iterations": 12, "samples": 4}


def rated_world(seed: int = 1, n_users: int = 40, n_items: int = 25) -> InteractionMatrix:
    """Ratings from 1 to 5 that depend on who, what, and on where with what: half of it only shows by the place."""
    random = np.random.default_rng(seed)
    users, items = np.nonzero(random.random((n_users, n_items)) < 0.5)
    places = random.integers(0, 3, len(users))
    liking = random.normal(size=(n_items, 3))
    values = 3 + 0.5 * random.normal(size=n_users)[users] + liking[items, places] + 0.3 * random.normal(size=len(users))
    context = pl.DataFrame(
        {"place": [f"place-{place}" for place in places], "hour": random.integers(0, 24, len(users))}
    )
    return InteractionMatrix.from_sorted(
        users, items, np.clip(values, 1, 5), ids("u", n_users), ids("i", n_items), scale=(1.0, 5.0), context=context
    )


def plain_prediction(base: float, weights: np.ndarray, vectors: np.ndarray, amounts: np.ndarray) -> float:
    """base + sum w x + sum over pairs of (v . v) x x, by two loops."""
    there = np.flatnonzero(amounts)
    total = base + sum(weights[f] * amounts[f] for f in there)
    for place, f in enumerate(there):
        total += sum(vectors[f] @ vectors[g] * amounts[f] * amounts[g] for g in there[place + 1 :])
    return float(total)


def test_a_step_is_the_mean_of_the_distribution_given_all_else():
    random = np.random.default_rng(3)
    n_rows, n_features, rank = 30, 7, 2
    amounts = np.where(random.random((n_rows, n_features)) < 0.4, random.normal(size=(n_rows, n_features)), 0)
    amounts = amounts.astype(np.float32).astype(np.float64)
    table = random.normal(size=(n_features, rank + 1))
    actual = random.normal(size=n_rows)
    predicted = [plain_prediction(0.3, table[:, 0], table[:, 1:], row) for row in amounts]
    left, sums = actual - predicted, (amounts @ table[:, 1:]).astype(np.float32)
    means, precisions = random.normal(size=rank + 1), random.random(rank + 1) + 0.5
    feature = 4
    rows = np.flatnonzero(amounts[:, feature]).astype(np.int32)
    # the prediction is linear in one feature's weight and vector: its slopes, by differences
    slopes = np.empty((len(rows), rank + 1))
    for at in range(rank + 1):
        moved = table.copy()
        moved[feature, at] += 1
        slopes[:, at] = [
            plain_prediction(0.3, moved[:, 0], moved[:, 1:], amounts[row]) - predicted[row] for row in rows
        ]
    target = left[rows] + slopes @ table[feature]
    system = 2.5 * slopes.T @ slopes + np.diag(precisions)
    expected = np.linalg.solve(system, 2.5 * slopes.T @ target + precisions * means)
    bounds = np.zeros(n_features + 1, np.int64)
    bounds[feature + 1 :] = len(rows)
    draw_features(
        feature, feature + 1, bounds, rows, amounts[rows, feature].astype(np.float32), left, sums, table,
        np.zeros_like(table), 2.5, means, precisions,
    )  # fmt: skip
    # the sums are of 32 bits
    np.testing.assert_allclose(table[feature], expected, rtol=SUMMED, atol=SUMMED)
    again = [plain_prediction(0.3, table[:, 0], table[:, 1:], row) for row in amounts]
    np.testing.assert_allclose(left, actual - again, rtol=SUMMED, atol=SUMMED)
    np.testing.assert_allclose(sums, amounts @ table[:, 1:], rtol=SUMMED, atol=SUMMED)


def test_draws_spread_as_their_distribution():
    table, n = np.zeros((4000, 2)), 4000
    bounds, rows = np.arange(n + 1, dtype=np.int64), np.arange(n, dtype=np.int32)
    left, sums = np.full(n, 2.0), np.ones((n, 1), np.float32)
    noise = np.random.default_rng(1).standard_normal(table.shape)
    draw_features(0, n, bounds, rows, np.ones(n, np.float32), left, sums, table, noise, 3.0, np.zeros(2), np.ones(2))
    # one row of slopes (1, 1) and error 2: precision matrix 3 [[1, 1], [1, 1]] + I
    system = 3 * np.ones((2, 2)) + np.eye(2)
    np.testing.assert_allclose(table.mean(axis=0), np.linalg.solve(system, [6.0, 6.0]), atol=4 / np.sqrt(n))
    np.testing.assert_allclose(np.cov(table.T), np.linalg.inv(system), atol=6 / np.sqrt(n))


def test_predictions_are_those_of_every_pair_of_features():
    matrix = rated_world()
    features = features_for(matrix)
    model = build("fm_values", SMALL | {"samples": 1}).fit(matrix, features=features)
    [draw] = model.draws_
    codes = model.encoder_.codes(matrix.context, matrix.n_cells)
    starts = np.concatenate([[0], np.cumsum(model.encoder_.n_features)])
    predicted = model.predict_in(matrix.user_rows, matrix.indices, matrix.context)
    for cell in range(0, matrix.n_cells, 37):
        tables = [draw.users[matrix.user_rows[cell]], draw.items[matrix.indices[cell]]]
        tables += [draw.context[starts[at] + code[cell]] for at, code in enumerate(codes) if code[cell] >= 0]
        table = np.array(tables, dtype=np.float64)
        expected = plain_prediction(draw.base, table[:, 0], table[:, 1:], np.ones(len(table)))
        assert predicted[cell] == pytest.approx(expected, abs=SINGLE)
    factors = model.factors()
    here = pl.DataFrame({"place": ["place-1"], "hour": [7]})
    moved = model.in_context(factors.users[[3]], here)[0]
    rows = np.arange(len(matrix.items), dtype=np.int32)
    np.testing.assert_allclose(model.scores(np.array([3]))[0], model.predict(np.full_like(rows, 3), rows), atol=SINGLE)
    everywhere = pl.concat([here] * len(rows))
    np.testing.assert_allclose(
        factors.items @ moved, model.predict_in(np.full_like(rows, 3), rows, everywhere), atol=SINGLE
    )


def test_what_was_never_met_is_its_fields_mean():
    matrix = rated_world()
    model = build("fm_values", SMALL).fit(matrix)
    rows = np.arange(6, dtype=np.int32)
    nowhere = model.predict_in(rows, rows, pl.DataFrame({"place": ["elsewhere"] * 6, "hour": [99] * 6}))
    # no cell of training lacks a place, so what is missing was never met either
    np.testing.assert_array_equal(nowhere, model.predict(rows, rows))


@pytest.mark.parametrize("family", ["fm_values", "ffm_values"])
def test_what_only_the_context_tells_is_found(family):
    matrix = rated_world()
    held_out = np.arange(matrix.n_cells) % 5 == 0
    train, out = matrix.only(~held_out), matrix.only(held_out)

    def error(**params) -> float:
        model = build(family, {"rank": 3, "iterations": 60} | params).fit(train)
        miss = model.rate(out.user_rows, out.indices, out.context).values - out.values
        return float(np.sqrt((miss**2).mean()))

    # the places move ratings by a deviation of one, which nothing else tells
    assert error() < 0.75 * error(context_columns=[])


def test_it_is_the_same_on_any_number_of_threads(monkeypatch):
    matrix = rated_world()
    models = []
    for threads in (1, 3):
        monkeypatch.setattr("gleaner.core.models.machines.sampling.default_threads", lambda n=threads: n)
        monkeypatch.setattr("gleaner.core.parallel.default_threads", lambda n=threads: n)
        models.append(build("fm_values", SMALL).fit(matrix, features=features_for(matrix)))
    np.testing.assert_array_equal(models[0].scores(np.arange(5)), models[1].scores(np.arange(5)))


def test_columns_of_the_interaction_are_encoded_the_same_in_training_and_serving():
    frame = pl.DataFrame({"device": ["till", "phone", None, "till"], "hour": [9, 17, 9, None]})
    encoder = ContextEncoder.fit(frame, ["device", "hour"])
    assert [column.feature_names() for column in encoder.columns] == [
        ["(missing)", "(other)", "till", "phone"], ["(missing)", "(other)", "9.0", "17.0"]
    ]  # fmt: skip
    assert encoder.codes(frame, 4).tolist() == [[2, 3, 0, 2], [2, 3, 2, 0]]
    again = ContextEncoder.from_json(encoder.to_json())
    assert again == encoder
    served = again.frame_of([{"device": "phone", "hour": 9}])
    assert again.codes(served, 1).tolist() == [[3], [2]]
    # what training never saw is another, and what a request leaves out is missing
    assert again.codes(again.frame_of([{"device": "kiosk"}]), 1).tolist() == [[1], [0]]
    with pytest.raises(DataError, match="context 'hour' must be a number, not 'nine'"):
        again.frame_of([{"hour": "nine"}])
    with pytest.raises(ParameterError, match="there is no column 'devise' of the interaction; did you mean 'device'"):
        ContextEncoder.fit(frame, ["devise"])


def test_many_numbers_are_cut_into_parts():
    numbers = pl.DataFrame({"age": np.arange(1000.0)})
    encoder = ContextEncoder.fit(numbers, ["age"])
    counts = np.bincount(encoder.codes(numbers, 1000)[0])
    assert counts[:2].tolist() == [0, 0]
    # sixteen parts of 1,000
    assert set(counts[2:].tolist()) <= {62, 63}
    assert len(counts) == encoder.n_features[0] == 18


def test_a_state_that_does_not_fit_is_refused():
    matrix = rated_world()
    model = build("fm_values", SMALL).fit(matrix)
    state = dict(model.state())
    again = build("fm_values", SMALL).restore(state, matrix)
    np.testing.assert_allclose(again.scores(np.arange(3)), model.scores(np.arange(3)), rtol=SINGLE)
    for name, wrong in {
        "context": state["context"][:, :-1],
        "encoder": np.frombuffer(b"[{}]", np.uint8),
        "precision": -state["precision"],
    }.items():
        with pytest.raises(DataError):
            build("fm_values", SMALL).restore(state | {name: wrong}, matrix)


def test_someone_new_is_fitted_to_what_they_gave():
    matrix = rated_world()
    model = build("fm_values", SMALL).fit(matrix, features=Features())
    items, values = matrix.history(7)
    folded = model.scores_of(model.fold_in(items, values))
    known = model.scores(np.array([7]))[0]
    # the same ratings, of a context that is not told: near what training made of them
    assert np.corrcoef(folded, known)[0, 1] > 0.8
    assert folded.shape == known.shape
    assert np.isfinite(folded).all()
    assert SOLVED < 1


def test_a_field_aware_machine_of_values_predicts_the_sum_of_its_pairs():
    """A user's vector for an item's field with the item's for the user's, and so on, each pair by hand."""
    matrix = rated_world()
    model = build("ffm_values", {"rank": 2, "iterations": 3, "context_columns": ["place"]}).fit(matrix)
    machine = model.machine_
    user, item, place = 3, 7, "place-1"
    features = machine.encoder.columns[0]
    code = int(features.codes(pl.Series("place", [place]))[0])
    u, i, c = (table.astype(float) for table in (machine.users_[user], machine.items_[item], machine.context_[code]))
    # three pairs of fields, two numbers each: user with item, item with place, user with place
    expected = float(matrix.values.mean()) + u[-1] + i[-1] + c[-1]
    for one, other in ((u, i), (i, c), (u, c)):
        expected += one[:-1] @ other[:-1]
    told = model.predict_in(np.array([user]), np.array([item]), pl.DataFrame({"place": [place]}))
    assert told[0] == pytest.approx(expected, rel=SINGLE * 10)
    assert (u[:-1] != 0).sum() == (i[:-1] != 0).sum() == 4
    there = pl.DataFrame({"place": [place]})
    np.testing.assert_allclose(model.scores_in(np.array([user], np.int32), there)[0, item], expected, rtol=SINGLE * 10)
