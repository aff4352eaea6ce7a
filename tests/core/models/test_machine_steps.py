"""Gradient steps of factorisation machines against plain loops over every pair of features."""

from __future__ import annotations

import dataclasses

import numpy as np
import polars as pl
import pytest
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.column_encodings import CategoryEncoding
from gleaner.core.data.tables.row_features import Column
from gleaner.core.errors import ParameterError
from gleaner.core.models.base.registry import build
from gleaner.core.models.machines.fields import FieldPlan
from gleaner.core.models.machines.stepping import ContextColumns, Machine, SideColumns, StepPlan, Tables
from reference import machines as naive
from tolerances import SINGLE, SOLVED, SUMMED
from worlds import features_for, ids, random_matrix

RANK = 3
SHAPES = {"users": (12, 0), "items": (9, 1), "user_columns": (5, 2), "item_columns": (4, 3), "context": (6, 4)}
"""Rows and field of every table."""


def columns(random: np.random.Generator, n_rows: int, n_features: int) -> SideColumns:
    amounts = np.where(random.random((n_rows, n_features)) < 0.4, random.random((n_rows, n_features)), 0)
    matrix = sparse.csr_array(amounts.astype(np.float32))
    matrix.sort_indices()
    pointers = matrix.indptr.astype(np.int64), matrix.indices.astype(np.int32)
    return SideColumns(*pointers, matrix.data, np.zeros(n_features, np.int32), ["column"])


@pytest.mark.parametrize("second", [True, False])
@pytest.mark.parametrize("loss", ["bpr", "warp", "logistic", "squared"])
def test_steps_agree_with_plain_loops(loss, second):
    matrix = random_matrix(2)
    random = np.random.default_rng(5)
    sides = columns(random, 12, 5), columns(random, 9, 4)
    codes = random.integers(-1, 3, (matrix.n_cells, 2)).astype(np.int32)
    codes[:, 1] += np.where(codes[:, 1] >= 0, 3, 0).astype(np.int32)
    # in part of the places the vectors of a field stay as they are
    masks = (random.random((5, RANK)) < 0.8).astype(np.float32)
    start = {side: random.normal(0, 0.5, (n, RANK + 1)).astype(np.float32) for side, (n, _) in SHAPES.items()}
    if not second:
        # weights that do not move are not there
        for side in ("users", "user_columns", "context"):
            start[side][:, -1] = 0
    plan = StepPlan(loss, second, second, 1.0, {"bpr": 1, "warp": 6, "logistic": 2, "squared": 0}[loss], masks,
                    np.full(5, 0.02), 0.25 if loss == "squared" else 0.0)  # fmt: skip
    machine = Machine(
        matrix, sides, ContextColumns(codes, np.zeros(6, np.int32), ["place"]),
        Tables(**{side: table.copy() for side, table in start.items()}), plan,
    )  # fmt: skip
    everything = np.zeros(9, np.int8), np.arange(9, dtype=np.int32), 0
    total = machine.task(np.float32(0.1), np.uint64(7))(0, 12, *everything)
    machine.move_columns(np.float32(0.1))
    plain = naive.Machine(
        start, {"user_columns": sides[0].matrix().toarray(), "item_columns": sides[1].matrix().toarray()},
        codes, second, second, {side: np.tile(masks[field], (n, 1)) for side, (n, field) in SHAPES.items()},
    )  # fmt: skip
    histories = [matrix.history(u)[0].tolist() for u in range(12)]
    expected = naive.epoch(plain, histories, matrix.values, 7, loss, 0.1, 0.02, 1.0, plan.trials, plan.base)
    assert total == pytest.approx(expected, rel=SUMMED)
    for side in SHAPES:
        np.testing.assert_allclose(getattr(machine.tables, side), plain.tables[side], rtol=SOLVED, atol=SUMMED)


def context_world(seed: int = 3, n_users: int = 60, n_items: int = 24) -> InteractionMatrix:
    """Every item is taken in one of three places, whoever it is."""
    random = np.random.default_rng(seed)
    users, items = np.nonzero(random.random((n_users, n_items)) < 0.3)
    context = pl.DataFrame({"place": [f"place-{item % 3}" for item in items]})
    return InteractionMatrix.from_sorted(
        users, items, np.ones(len(users)), ids("u", n_users), ids("i", n_items), context=context
    )


@pytest.mark.parametrize("more", [{}, {"field_aware": True}, {"loss": "bpr"}, {"loss": "warp"}])
def test_a_list_depends_on_the_context_it_is_asked_for_in(more):
    matrix = context_world()
    model = build("fm_ranking", {"rank": 4, "iterations": 20} | more).fit(matrix)
    factors = model.factors()
    for place in range(3):
        moved = model.in_context(factors.users, pl.DataFrame({"place": [f"place-{place}"] * 60}))
        best = np.argsort(-(moved @ factors.items.T), axis=1)[:, :5]
        assert np.mean(best % 3 == place) > 0.9
    # nothing said is the context nothing known
    same = model.in_context(factors.users[:2], pl.DataFrame({"place": [None, None]}, schema={"place": pl.String}))
    np.testing.assert_allclose(same, factors.users[:2], atol=SINGLE)


@pytest.mark.parametrize("field_aware", [False, True])
def test_scores_are_sums_over_pairs_of_fields(field_aware):
    """Of the machine's own tables, before they are summed by row."""
    matrix = context_world()
    features = features_for(matrix)
    model = build("fm_ranking", {"rank": 2, "iterations": 2, "field_aware": field_aware})
    kept = {}
    original = type(model).update_factors

    def keep(self):
        original(self)
        kept["machine"], kept["sides"] = self._machine, self._sides

    type(model).update_factors = keep
    try:
        model.fit(matrix, features=features)
    finally:
        type(model).update_factors = original
    tables, sides = kept["machine"].tables, kept["sides"]
    codes = model.encoder.codes(pl.DataFrame({"place": ["place-1"]}), 1)[:, 0]
    plain = naive.Machine(
        {side: getattr(tables, side) for side in SHAPES},
        {"user_columns": sides[0].matrix().toarray(), "item_columns": sides[1].matrix().toarray()},
        codes[None], True, True, {side: np.ones_like(getattr(tables, side)[:, :-1]) for side in SHAPES},
    )  # fmt: skip
    moved = model.in_context(model.factors().users[:1], pl.DataFrame({"place": ["place-1"]}))
    actual = (moved @ model.factors().items.T)[0]
    expected = np.array([plain.score(0, item, 0) for item in range(24)])
    # but for what is the user's own, and the same for every item
    np.testing.assert_allclose(actual - actual[0], expected - expected[0], atol=SUMMED)


def test_fields_that_do_not_meet_share_nothing():
    plan = FieldPlan(["zone"], ["family", "days"], ["place"])
    masks = plan.masks(2)
    users, items, context = [0, 2], [1, 3, 4], [5]
    assert plan.n_fields == 6
    for group in (users, items, context):
        for a in group:
            assert all((masks[a] * masks[b]).sum() == 0 for b in group if a != b)
    for a, b in [(a, b) for a in users + context for b in items] + [(a, c) for a in users for c in context]:
        assert (masks[a] * masks[b]).sum() == 2


def test_a_penalty_may_differ_by_field():
    matrix = context_world()
    features = features_for(matrix)

    def length(**more):
        model = build("fm_ranking", {"rank": 4, "iterations": 5, **more}).fit(matrix, features=features)
        return np.linalg.norm(model.context_)

    assert length(field_regularisation={"place": 5.0}) < 0.5 * length()
    with pytest.raises(ParameterError, match=r"no field 'plase'; did you mean 'place'"):
        length(field_regularisation={"plase": 1.0})
    with pytest.raises(ParameterError, match="'user' must be a number of at least 0"):
        build("fm_ranking", {"field_regularisation": {"user": -1}})


def test_columns_must_fit_the_rows():
    matrix = context_world()
    short = Column(CategoryEncoding("family", ("a",)), sparse.csr_array(np.ones((3, 1), np.float32)))
    features = dataclasses.replace(features_for(matrix), items=(short,))
    with pytest.raises(ParameterError, match="column 'family' has 3 rows of features for 24"):
        build("fm_ranking", {"rank": 2}).fit(matrix, features=features)
