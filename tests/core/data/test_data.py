"""Ids, matrices, preparation, splits and profile against plain loops."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.profile import activity_bins, gini, long_tail, profile, robots
from gleaner.core.errors import DataError, ParameterError
from gleaner.core.preparation.prepare import build_matrix, keep_rows
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split, split
from gleaner.core.splits.truth import Truth, truth_of
from reference import lists as naive
from worlds import dense_of, ids, random_matrix, rows_of

TEXT = st.lists(st.text(st.characters(exclude_categories=["Cs"]), min_size=1, max_size=8), unique=True, max_size=20)


@given(TEXT)
def test_ids_come_back_to_the_letter(texts):
    actual = IdMap.from_arrays(*IdMap(texts).to_arrays())
    assert actual.take(np.arange(len(texts))) == texts
    assert [actual.row(text) for text in texts] == list(range(len(texts)))


def test_ids_that_look_alike_stay_apart():
    texts = ["007", "7", " 7", "7 ", "7.0", "\U0001f331", "a,b", 'a"b']
    actual = IdMap(texts)
    assert actual.rows([*texts, "unknown"]).tolist() == [*range(8), -1]


def test_a_matrix_keeps_explicit_zeros_and_adds_nothing():
    matrix = InteractionMatrix.from_cells(
        np.array([0, 1], np.int32), np.array([1, 0], np.int32), np.array([0.0, 2.0]), ids("u", 2), ids("i", 2)
    )
    assert matrix.n_cells == 2
    assert matrix.history(0)[1].tolist() == [0.0]
    assert matrix.by_item[2].tolist() == [2.0, 0.0]


def test_the_transpose_holds_the_same_cells():
    matrix = random_matrix(3)
    values, observed = dense_of(matrix)
    indptr, users, by_item_values = matrix.by_item
    for item in range(matrix.shape[1]):
        rows = users[indptr[item] : indptr[item + 1]]
        assert rows.tolist() == np.flatnonzero(observed[:, item]).tolist()
        assert by_item_values[indptr[item] : indptr[item + 1]].tolist() == values[rows, item].tolist()


@pytest.mark.parametrize(("value", "text"), [(np.nan, "nan"), (np.inf, "inf")])
def test_a_matrix_refuses_what_is_no_number(value, text):
    with pytest.raises(DataError, match=f"value {text} of user 'u0' and item 'i1'"):
        InteractionMatrix.from_cells(np.array([0]), np.array([1]), np.array([value]), ids("u", 1), ids("i", 2))


def test_a_matrix_refuses_repeats():
    with pytest.raises(DataError, match="more than once"):
        InteractionMatrix.from_cells(np.array([0, 0]), np.array([1, 1]), np.ones(2), ids("u", 1), ids("i", 2))


def some_rows(seed: int, n: int = 60):
    random = np.random.default_rng(seed)
    cells = [(f"u{u}", f"i{i}") for u, i in zip(random.integers(0, 7, n), random.integers(0, 6, n), strict=True)]
    kinds = random.choice(["view", "save"], n).tolist()
    return cells, kinds, random.integers(0, 20, n).astype(float).tolist()


@pytest.mark.parametrize("merge", ["sum", "count", "max", "mean", "latest"])
@pytest.mark.parametrize("seed", [1, 2])
def test_repeats_are_merged_as_declared(merge, seed):
    cells, kinds, days = some_rows(seed)
    how = Preparation(kinds={"view": 1, "save": 3}, merge=merge)
    kept, _ = keep_rows(rows_of(cells, kinds=kinds, days=days), how)
    matrix, _ = build_matrix(kept, how)
    weights = [{"view": 1.0, "save": 3.0}[kind] for kind in kinds]
    rows = [(*cell, w, d) for cell, w, d in zip(cells, weights, days, strict=True)]
    expected = naive.merge(rows, merge)
    actual = {}
    for user in range(matrix.shape[0]):
        for item, value in zip(*matrix.history(user), strict=True):
            actual[matrix.users.id(user), matrix.items.id(int(item))] = float(value)
    assert actual == pytest.approx(expected)


@pytest.mark.parametrize("limits", [(1, 1), (3, 2), (4, 5), (6, 1)])
def test_pruning_leaves_the_core(limits):
    cells, _, _ = some_rows(4, n=34)
    how = Preparation(min_user=limits[0], min_item=limits[1])
    kept, _ = keep_rows(rows_of(cells), how)
    expected = naive.core(cells, *limits)
    if not expected:
        with pytest.raises(DataError, match="pruning leaves nothing"):
            build_matrix(kept, how)
        return
    matrix, steps = build_matrix(kept, how)
    actual = {
        (matrix.users.id(u), matrix.items.id(int(i))) for u in range(len(matrix.users)) for i in matrix.history(u)[0]
    }
    assert actual == expected
    assert steps[-1].rows_out == len(expected)


def test_a_missing_value_is_dropped_and_an_explicit_zero_kept():
    rows = rows_of([("u", "a"), ("u", "b"), ("u", "c")], values=[0.0, None, 4.0])
    kept, steps = keep_rows(rows, Preparation(use="values"))
    matrix, _ = build_matrix(kept, Preparation(use="values"))
    assert matrix.values.tolist() == [0.0, 4.0]
    assert steps[0].note == "1 rows without a value dropped, not read as zero"


@pytest.mark.parametrize(
    ("how", "rows", "message"),
    [
        ({"kinds": {"buy": 1}}, {"kinds": ["view"]}, "kind 'buy' does not occur; the data has view"),
        ({"kinds": {"view": 1}}, {}, "needs a kind column"),
        ({"use": "values"}, {}, "needs a value column"),
        ({"merge": "latest"}, {}, "needs a time column"),
    ],
)
def test_a_preparation_that_does_not_fit_says_why(how, rows, message):
    preparation = Preparation(**how)
    with pytest.raises(DataError, match=message):
        build_matrix(keep_rows(rows_of([("u", "i")], **rows), preparation)[0], preparation)


def test_parameters_outside_their_range_are_named():
    with pytest.raises(ParameterError, match="min_user must be a whole number of at least 1, not 0"):
        Preparation(min_user=0)
    with pytest.raises(ParameterError, match=r"kinds\.view must be a number of at least 0, not -1"):
        Preparation(kinds={"view": -1})


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_no_part_of_a_time_split_sees_what_came_later(seed):
    cells, kinds, days = some_rows(seed, n=200)
    days[5] = None
    parts = split(rows_of(cells, kinds=kinds, days=days), Split(test=0.2, validation=0.1))
    train, validation, test = (part.frame["time"] for part in (parts.train, parts.validation, parts.test))
    assert train.max() < parts.validation_from <= validation.min()
    assert validation.max() < parts.test_from <= test.min()
    assert len(train) + len(validation) + len(test) == 199
    assert parts.left_out == {"without a time": 1}
    assert len(test) >= 40


@pytest.mark.parametrize(
    ("days", "message"),
    [([1.0, 1.0, 1.0], "share one moment"), ([None, None, None], "no row has one"), (None, "needs a time column")],
)
def test_a_time_split_that_cannot_be_says_why(days, message):
    with pytest.raises(DataError, match=message):
        split(rows_of([("u", "a"), ("u", "b"), ("v", "a")], days=days), Split(test=0.3, validation=0))


def test_shares_that_leave_nothing_are_refused():
    with pytest.raises(DataError, match="leave nothing to train on"):
        Split(test=0.6, validation=0.5)


def test_the_truth_is_what_training_could_recommend():
    rows = rows_of(
        [
            ("u", "a"),
            ("u", "b"),
            ("v", "b"),
            ("u", "a"),
            ("u", "c"),
            ("v", "a"),
            ("v", "a"),
            ("new", "a"),
            ("u", "new"),
        ],
        days=[0, 1, 2, 10, 11, 12, 13, 14, 15],
    )
    parts = split(rows, Split(test=6 / 9, validation=0))
    matrix, _ = build_matrix(keep_rows(parts.train, Preparation())[0], Preparation())
    truth = truth_of(keep_rows(parts.test, Preparation())[0], matrix)
    assert matrix.users.take(truth.user_rows) == ["v"]
    assert matrix.items.take(truth.indices) == ["a"]
    # u's a was in training; c and new are unseen items; new is an unseen user
    assert (truth.known_pairs, truth.unseen_items, truth.unseen_users) == (1, 2, 1)


def test_part_of_what_is_relevant():
    whole = Truth(
        np.array([1, 4, 6], np.int32), np.array([0, 2, 3, 5]), np.array([0, 3, 3, 1, 2], np.int32), 0, 0, 0,
        gains=np.arange(5, dtype=np.float32), context=pl.DataFrame({"place": ["a", "b", "c"]}),
    )  # fmt: skip
    part = whole.only(np.array([False, True, False, True, True]))
    assert part.user_rows.tolist() == [1, 6]
    assert part.indptr.tolist() == [0, 1, 3]
    assert part.indices.tolist() == [3, 1, 2]
    assert part.gains.tolist() == [1, 3, 4]
    assert part.context["place"].to_list() == ["a", "c"]
    assert len(part.only(np.zeros(3, bool)).user_rows) == 0


def test_test_rows_leave_no_trace_in_the_vocabulary():
    rows = rows_of([("u", "a"), ("v", "b"), ("w", "c")], days=[0, 1, 2])
    parts = split(rows, Split(test=0.3, validation=0))
    matrix, _ = build_matrix(keep_rows(parts.train, Preparation())[0], Preparation())
    assert matrix.users.row("w") is None
    assert matrix.items.row("c") is None


def test_the_profile_counts_what_is_there():
    cells, kinds, days = some_rows(6, n=90)
    values = [None if n % 3 else float(n % 5) for n in range(90)]
    frame = pl.DataFrame(
        {
            "user": [u for u, _ in cells],
            "item": [i for _, i in cells],
            "kind": kinds,
            "value": pl.Series(values, dtype=pl.Float64),
            "time": rows_of(cells, days=days).frame["time"],
        }
    )
    profiled = profile(frame.lazy())
    actual = profiled.facts
    per_item = [sum(1 for _, i in cells if i == item) for item in {i for _, i in cells}]
    assert (actual["rows"], actual["users"], actual["items"]) == (90, len({u for u, _ in cells}), len(per_item))
    assert actual["density"] == len(set(cells)) / (actual["users"] * actual["items"])
    assert actual["gini"] == pytest.approx(naive.gini(per_item))
    assert {each["kind"]: each["rows"] for each in actual["kinds"]} == {k: kinds.count(k) for k in set(kinds)}
    assert sum(point["rows"] for point in actual["over_time"]["points"]) == 90
    assert actual["values"]["missing"] == 60
    assert {bin_["at"]: bin_["rows"] for bin_ in actual["values"]["histogram"]} == {0: 6, 1: 6, 2: 6, 3: 6, 4: 6}

    for side, activity, at in (("user", profiled.users, 0), ("item", profiled.items, 1)):
        counts = {each: sum(1 for cell in cells if cell[at] == each) for each in {cell[at] for cell in cells}}
        assert dict(zip(activity["id"], activity["rows"], strict=True)) == counts
        assert activity["rows"].to_list() == sorted(counts.values(), reverse=True)
        means = {}
        for each in counts:
            known = [v for cell, v in zip(cells, values, strict=True) if cell[at] == each and v is not None]
            means[each] = sum(known) / len(known) if known else None
        assert dict(zip(activity["id"], activity["mean"], strict=True)) == pytest.approx(means)
        assert sum(each["rows"] for each in actual["means"][side]) == sum(mean is not None for mean in means.values())
        assert sum(each["count"] for each in actual["activity"][side]) == len(counts)
        few = [c for c in counts.values() if c <= 9]
        assert actual["cold"][side][-1] == {
            "at_most": 9, "count": len(few), "share": len(few) / len(counts), "rows": sum(few) / 90
        }  # fmt: skip


def test_activity_is_counted_in_bins():
    assert activity_bins(np.array([1, 1, 2, 3, 4, 5, 9, 10, 25])) == [
        {"at": 1, "count": 2}, {"at": 2, "count": 1}, {"at": 3, "count": 2}, {"at": 5, "count": 2},
        {"at": 10, "count": 1}, {"at": 20, "count": 1},
    ]  # fmt: skip


def over_time(days: list[str]) -> dict:
    times = pl.Series(days).str.to_datetime("%Y-%m-%d", time_zone="UTC")
    frame = pl.DataFrame({"user": ["u"] * len(days), "item": ["i"] * len(days), "time": times})
    return profile(frame.lazy()).facts["over_time"]


def test_a_few_times_far_from_all_others_do_not_stretch_the_chart():
    usual = [f"2026-01-{day:02}" for day in range(1, 29)] * 20
    assert over_time(usual)["period"] == "1d"
    actual = over_time(["1970-01-01", *usual, "2090-01-01"])
    assert (actual["period"], len(actual["points"]), actual["left_out"]) == ("1d", 28, 2)
    # what is rare but near is no reason to cut it too
    slow = [f"2025-{month:02}-{day:02}" for month in range(1, 13) for day in range(1, 29)] + usual * 10
    actual = over_time(["1970-01-01", *slow])
    assert (actual["points"][0]["at"] < "2025-01-02", actual["left_out"]) == (True, 1)
    # the ends of a chart stay where they are near, and where they are more than a few
    near = over_time([*usual, "2026-02-20"])
    assert (near["points"][-1], near["left_out"]) == ({"at": "2026-02-20", "rows": 1}, 0)
    old = over_time(["1970-01-01"] * 10 + usual)
    assert (old["period"], old["points"][0], old["left_out"]) == ("1y", {"at": "1970-01-01", "rows": 10}, 0)


def test_robots_stand_far_beyond_the_others():
    calm = np.random.default_rng(1).integers(5, 60, 500)
    assert (calm > robots(calm)).sum() == 0
    assert robots(np.append(calm, 90_000)) < 90_000
    assert robots(np.array([1, 1, 1, 90])) >= 100


def test_the_long_tail_runs_from_nothing_to_everything():
    points = long_tail(np.array([50, 30, 10, 10]))
    assert points == [
        {"items": 0.0, "rows": 0.0},
        {"items": 0.25, "rows": 0.5},
        {"items": 0.5, "rows": 0.8},
        {"items": 0.75, "rows": 0.9},
        {"items": 1.0, "rows": 1.0},
    ]


@pytest.mark.parametrize(("counts", "expected"), [([5, 5, 5], 0.0), ([1, 3], 0.25)])
def test_gini(counts, expected):
    assert gini(np.array(counts)) == pytest.approx(expected)
