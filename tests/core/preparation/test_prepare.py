"""Every preparation step and every split rule, against plain loops and against their documentation."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError, InputError, ParameterError
from gleaner.core.metrics.evaluation import RankPlan, evaluate
from gleaner.core.models.base.registry import build
from gleaner.core.preparation.prepare import history_matrix, keep_rows, prepare
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.preparation.transforms import Transform
from gleaner.core.splits.leaks import check_leaks
from gleaner.core.splits.split import Split, split, split_folds
from gleaner.core.splits.truth import truth_of
from reference import data as naive
from tolerances import KEPT
from worlds import rows_of

START = datetime(2026, 1, 1, tzinfo=UTC)


def world(seed: int, n: int = 200, users: int = 12, items: int = 9):
    random = np.random.default_rng(seed)
    cells = [
        (f"u{u}", f"i{i}") for u, i in zip(random.integers(0, users, n), random.integers(0, items, n), strict=True)
    ]
    kinds = random.choice(["view", "save", "grown"], n).tolist()
    days = random.integers(0, 50, n).astype(float).tolist()
    values = [float(v) for v in random.integers(1, 6, n)]
    return cells, kinds, days, values


def cells_of(matrix):
    return {
        (matrix.users.id(user), matrix.items.id(int(item))): float(value)
        for user in range(matrix.shape[0])
        for item, value in zip(*matrix.history(user), strict=True)
    }


def prepared(rows, how):
    kept, steps = keep_rows(rows, how)
    outcome = prepare(kept, how)
    return outcome.matrix, steps + outcome.steps


def test_a_half_life_halves_what_is_older():
    cells, kinds, days, _ = world(1)
    matrix, steps = prepared(rows_of(cells, kinds=kinds, days=days), Preparation(half_life_days=7))
    expected: dict = {}
    for user, item, weight, _ in naive.decayed([(*c, 1.0, d) for c, d in zip(cells, days, strict=True)], 7):
        expected[user, item] = expected.get((user, item), 0.0) + weight
    assert cells_of(matrix) == pytest.approx(expected, rel=KEPT)
    assert [step.name for step in steps] == ["half_life_days", "merge"]


def test_a_like_is_a_value_of_at_least_the_threshold():
    values = [5.0, 3.0, None, 4.0, 0.0]
    rows = rows_of([("u", item) for item in "abcde"], values=values)
    matrix, steps = prepared(rows, Preparation(like_from=4))
    assert cells_of(matrix) == {("u", "a"): 1.0, ("u", "d"): 1.0}
    assert (steps[0].rows_in, steps[0].rows_out) == (5, 2)
    assert "1 of those dropped had no value" in steps[0].note


def test_kinds_can_be_dropped_by_name():
    rows = rows_of([("u", "a"), ("u", "b"), ("u", "c")], kinds=["view", None, "save"])
    assert set(cells_of(prepared(rows, Preparation(drop_kinds=["view"]))[0])) == {("u", "b"), ("u", "c")}
    assert set(cells_of(prepared(rows, Preparation(kinds={"view": 2}))[0])) == {("u", "a")}
    with pytest.raises(DataError, match="kind 'buy' does not occur; the data has"):
        keep_rows(rows, Preparation(drop_kinds=["buy"]))
    with pytest.raises(ParameterError, match="not both"):
        Preparation(kinds={"view": 1}, drop_kinds=["save"])


def test_a_window_keeps_what_lies_in_it():
    cells, _, days, _ = world(2)
    days[3] = None
    rows = rows_of(cells, days=days)
    first = min(rows.frame["time"].drop_nulls())
    since, until = first + timedelta(days=10), first + timedelta(days=30)
    kept, steps = keep_rows(rows, Preparation(since=since, until=until))
    assert len(kept) == sum(
        day is not None and since <= first + timedelta(days=day - min(d for d in days if d is not None)) < until
        for day in days
    )
    assert "1 rows without a time dropped" in steps[0].note
    recent, _ = keep_rows(rows, Preparation(last_days=5))
    top = max(d for d in days if d is not None)
    assert len(recent) == sum(day is not None and day >= top - 5 for day in days)


def test_heavy_users_are_dropped_by_their_training_rows():
    cells = [("robot", f"i{n % 5}") for n in range(50)] + [("u", "i0"), ("v", "i1")]
    matrix, steps = prepared(rows_of(cells), Preparation(drop_users_over=10))
    assert set(cells_of(matrix)) == {("u", "i0"), ("v", "i1")}
    assert "1 users with more than 10 rows dropped" in steps[0].note
    with pytest.raises(DataError, match="nothing is left"):
        prepared(rows_of([("u", "a"), ("u", "b")]), Preparation(drop_users_over=1))


@pytest.mark.parametrize(
    ("transform", "twin"),
    [
        (Transform("log1p"), lambda x, all_: np.log1p(x)),
        (Transform("cap", (0.7,)), lambda x, all_: min(x, naive.quantile(all_, 0.7))),
        (Transform("rescale", (-1.0, 1.0)), lambda x, all_: -1 + 2 * (x - min(all_)) / (max(all_) - min(all_))),
        (Transform("confidence", (40.0,)), lambda x, all_: 1 + 40 * x),
    ],
)
def test_transforms_change_cells_as_they_say(transform, twin):
    cells, _, _, values = world(3)
    rows = rows_of(cells, values=values)
    before = cells_of(prepared(rows, Preparation(use="values"))[0])
    after = cells_of(prepared(rows, Preparation(use="values", transform=(transform,)))[0])
    assert after == pytest.approx({key: twin(x, list(before.values())) for key, x in before.items()}, rel=KEPT)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: Transform("cap", (1.5,)), "cap must be a number of at least 0 and at most 1"),
        (lambda: Transform("cap"), "cap takes 1 numbers, not 0"),
        (lambda: Transform("rescale", (3.0, 1.0)), "a lower and a higher bound"),
        (lambda: Transform("square"), "there is no transform 'square'"),
        (lambda: Preparation(half_life_days=0), "half_life_days must be above 0"),
        (lambda: Split(by="cleverly"), "split.by must be one of time, rows"),
        (lambda: Split(by="last", test=0.5), "split.test must be a whole number"),
        (lambda: split(rows_of([("u", "a")]), Split(by="folds")), "ask for them with split_folds"),
    ],
)
def test_what_cannot_be_is_refused(make, message):
    with pytest.raises(InputError, match=message):
        make()


def test_what_was_rated_twice_is_not_liked_twice_as_much():
    rows = rows_of([("u", "a"), ("u", "a"), ("v", "a")], values=[4.0, 5.0, 2.0], scale=(1.0, 5.0))
    for how in (Preparation(use="values"), Preparation()):
        outcome = prepare(keep_rows(rows, how)[0], how)
        assert cells_of(outcome.matrix) == {("u", "a"): 4.5, ("v", "a"): 2.0}
        assert outcome.matrix.scale == (1.0, 5.0)
        assert outcome.steps[-1].note == "1 rows repeat a pair of user and item, merged by mean"
        shown = history_matrix(keep_rows(rows, how)[0], outcome.learned, outcome.matrix.items)
        assert cells_of(shown) == cells_of(outcome.matrix)
    how = Preparation(use="values", merge="sum")
    outcome = prepare(keep_rows(rows, how)[0], how)
    assert (cells_of(outcome.matrix)["u", "a"], outcome.matrix.scale) == (9.0, (2.0, 9.0))
    assert (
        outcome.steps[-1].note
        == "1 rows repeat a pair of user and item, merged by sum; cells that left the scale of 1 to 5: 1"
    )


def test_repeats_of_weights_add_up():
    rows = rows_of([("u", "a"), ("u", "a")], values=[4.0, 5.0])
    how = Preparation(use="weights")
    assert cells_of(prepare(keep_rows(rows, how)[0], how).matrix) == {("u", "a"): 2.0}


def test_what_a_transform_learns_comes_from_training_only():
    rows = rows_of([("u", "a"), ("u", "b"), ("v", "a")], values=[1.0, 2.0, 1000.0], days=[0, 1, 9])
    how = Preparation(use="values", transform=(Transform("cap", (1.0,)),), merge="max")
    parts = split(keep_rows(rows, how)[0], Split(test=1 / 3, validation=0))
    outcome = prepare(parts.train, how)
    assert cells_of(outcome.matrix) == {("u", "a"): 1.0, ("u", "b"): 2.0}
    # what is shown later is treated by what training learned
    shown = history_matrix(parts.test, outcome.learned, outcome.matrix.items)
    assert cells_of(shown) == {("v", "a"): 2.0}


def test_a_part_that_is_empty_says_why():
    rows = rows_of([("u", "a"), ("u", "b"), ("v", "a")], days=[0, 1, 2])
    with pytest.raises(DataError, match=r"the test part .* would be empty: .* and no user has more than 2"):
        split(rows, Split(by="last", test=3, validation=0))


def row_ids(part) -> list[tuple]:
    return part.frame.select("user", "item", "time").rows()


RULES = [
    Split(by="time", test=0.2, validation=0.1),
    Split(by="rows", test=0.2, validation=0.1, seed=7),
    Split(by="user_rows", test=0.2, validation=0.2, seed=7),
    Split(by="last", test=2, validation=1),
    Split(by="users", test=0.25, validation=0.25, show=0.5, seed=7),
]


@pytest.mark.parametrize("how", RULES, ids=lambda how: how.by)
@given(seed=st.integers(0, 10_000))
def test_a_split_neither_loses_nor_doubles_a_row(how, seed):
    cells, _, _, _ = world(seed)
    rows = rows_of(cells, days=np.random.default_rng(seed).permutation(200).astype(float).tolist())
    parts = split(rows, how)
    held_out = [
        part for part in (parts.train, parts.validation, parts.test, parts.shown_validation, parts.shown_test) if part
    ]
    assert sorted(row for part in held_out for row in row_ids(part)) == sorted(row_ids(rows))
    again = split(rows, how)
    assert row_ids(again.test) == row_ids(parts.test)
    assert row_ids(again.validation) == row_ids(parts.validation)


def test_another_seed_draws_other_rows():
    rows = rows_of(world(1)[0], days=[float(n) for n in range(200)])
    one, two = (split(rows, Split(by="rows", seed=seed)) for seed in (1, 2))
    assert row_ids(one.test) != row_ids(two.test)
    assert (len(one.test), len(one.validation)) == (20, 20)


def per_user(part) -> dict[int, list]:
    result: dict[int, list] = {}
    for user, _, at in row_ids(part):
        result.setdefault(user, []).append(at)
    return result


def test_the_last_rows_of_each_user_are_held_out():
    rows = rows_of(world(4)[0] + [("short", "i1"), ("short", "i2")], days=[float(n) for n in range(202)])
    parts = split(rows, Split(by="last", test=2, validation=1))
    train, validation, test = (per_user(part) for part in (parts.train, parts.validation, parts.test))
    short = rows.users.row("short")
    assert len(train[short]) == 2
    assert short not in test
    for user, times in test.items():
        assert (len(times), len(validation[user])) == (2, 1)
        assert max(train[user]) < min(validation[user]) <= max(validation[user]) < min(times)


def test_a_share_of_each_users_rows_is_held_out():
    rows = rows_of(world(5)[0] + [("one", "i0")], days=[float(n) for n in range(201)])
    parts = split(rows, Split(by="user_rows", test=0.25, validation=0))
    everything, test = per_user(rows), per_user(parts.test)
    assert {user: len(times) for user, times in test.items()} == {
        user: min(round(len(times) * 0.25), len(times) - 1) for user, times in everything.items() if len(times) > 1
    }


def test_a_gap_keeps_parts_apart():
    rows = rows_of(world(6)[0], days=[float(n) for n in range(200)])
    parts = split(rows, Split(test=0.2, validation=0.2, gap_days=5))
    for early, late in ((parts.train, parts.validation), (parts.validation, parts.test)):
        assert late.frame["time"].min() - early.frame["time"].max() > timedelta(days=5)
    assert parts.left_out == {"in a gap": 10}
    with pytest.raises(DataError, match="the gap of 90 days swallows it"):
        split(rows, Split(test=0.2, validation=0.2, gap_days=90))


def test_the_moment_of_a_time_split_can_be_given():
    rows = rows_of(world(7)[0], days=[float(n) for n in range(200)])
    moment = rows.frame["time"].min() + timedelta(days=150)
    parts = split(rows, Split(test_from=moment, validation=0.1))
    assert (len(parts.test), parts.test_from) == (50, moment)
    with pytest.raises(DataError, match="leaves nothing to test; the rows run from"):
        split(rows, Split(test_from=moment + timedelta(days=900)))


def test_each_row_is_tested_in_one_fold():
    rows = rows_of(world(8)[0], days=[float(n) for n in range(200)])
    folds = split_folds(rows, Split(by="folds", folds=4, validation=0.1, seed=3))
    assert sorted(row for parts in folds for row in row_ids(parts.test)) == sorted(row_ids(rows))
    assert {len(parts.test) for parts in folds} == {50}
    assert all(len(parts.train) + len(parts.validation) == 150 for parts in folds)
    with pytest.raises(DataError, match="3 rows cannot make 5 folds"):
        split_folds(rows_of([("u", "a")] * 3), Split(by="folds"))


def test_files_split_beforehand_stay_as_they_are():
    rows = rows_of([("u", "a"), ("u", "b"), ("v", "a")])
    frame = rows.frame.with_columns(part=np.array(["training", "training", "test"]))
    parts = split(rows.with_frame(frame), Split(by="given"))
    assert (len(parts.train), len(parts.validation), len(parts.test)) == (2, 0, 1)
    with pytest.raises(DataError, match="was not imported as files split beforehand"):
        split(rows, Split(by="given"))


def test_held_out_users_are_unknown_to_training_and_judged_by_what_is_shown():
    cells, _, _, _ = world(9, n=600, users=30, items=25)
    rows = rows_of(cells, days=[float(n) for n in range(600)])
    kept, _ = keep_rows(rows, Preparation())
    parts = split(kept, Split(by="users", test=0.2, validation=0.1, show=0.4))
    training = prepare(parts.train_and_validation(), Preparation())
    shown = history_matrix(parts.shown_test, training.learned, training.matrix.items)
    assert set(shown.users.ids.to_pylist()).isdisjoint(training.matrix.users.ids.to_pylist())
    assert max(per_user(parts.shown_test)[shown_user := next(iter(per_user(parts.test)))]) < min(
        per_user(parts.test)[shown_user]
    )
    truth = truth_of(parts.test, training.matrix, shown)
    assert len(truth.user_rows) > 0
    ties = tie_order(training.matrix.items)
    plan = RankPlan(["ndcg", "recall"], [5], 1)
    model = build("item_knn", {}).fit(training.matrix)
    figures = evaluate(model, training.matrix, truth, plan, ties, shown=shown)
    # by hand for one user: fold the shown items in, leave them out, rank, count
    row = int(truth.user_rows[0])
    items, values = shown.history(row)
    scores = model.scores_of(model.fold_in(items, values))
    relevant = set(truth.indices[truth.indptr[0] : truth.indptr[1]].tolist())
    order = sorted((i for i in range(len(scores)) if i not in set(items.tolist())), key=lambda i: (-scores[i], ties[i]))
    assert figures.per_user["recall@5"][0] == pytest.approx(len(relevant & set(order[:5])) / len(relevant))
    popular = evaluate(build("popular", {}).fit(training.matrix), training.matrix, truth, plan, ties, shown=shown)
    assert popular.n_users == figures.n_users


@pytest.mark.parametrize(
    ("train", "held", "rule", "expected", "words"),
    [
        ([("u", "a", 1)], [("u", "b", 2)], "time", (0, 0, 0, 0, False), "time runs from training"),
        ([("u", "a", 1)], [("u", "a", 2)], "time", (0, 1, 0, 0, False), "no row is on both sides"),
        (
            [("u", "a", 1), ("v", "a", 5)],
            [("u", "a", 1)],
            "rows",
            (1, 1, 1, 0, True),
            "1 of 1 rows stand in training too",
        ),
        (
            [("u", "a", 9), ("v", "a", 1)],
            [("v", "b", 2)],
            "given",
            (0, 0, 1, 0, True),
            "1 rows are dated before the last",
        ),
        ([("u", "a", 9), ("v", "a", 1)], [("v", "b", 2)], "rows", (0, 0, 1, 0, False), "as this rule allows"),
        ([("u", "a", 9)], [("u", "b", 2)], "last", (0, 0, 1, 1, True), "before the same user's last training row"),
    ],
)
def test_leaks_are_found(train, held, rule, expected, words):
    both = rows_of([(u, i) for u, i, _ in train + held], days=[float(d) for *_, d in train + held])
    n = len(train)
    sides = [both.with_frame(both.frame.slice(lo, size)) for lo, size in ((0, n), (n, len(held)))]
    leak = check_leaks("test", sides[1], sides[0], rule)
    assert (leak.same_rows, leak.same_pairs, leak.early_rows, leak.early_users, leak.leaks) == expected
    assert words in leak.verdict
