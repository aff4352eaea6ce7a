"""Lists, ties, metrics, intervals and ranges against plain sorting and counting."""

from __future__ import annotations

import ast
from dataclasses import astuple
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import gleaner.core
from gleaner.core import parallel
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import CancelledError, DataError, ParameterError
from gleaner.core.kernels import topn as kernels
from gleaner.core.metrics.catalogue import RANKING, require_metric
from gleaner.core.metrics.evaluation import RankPlan, evaluate
from gleaner.core.metrics.ranking import list_figures
from gleaner.core.metrics.statistics import intervals, intervals_each, paired_difference
from gleaner.core.models.baselines.popularity import Popular
from gleaner.core.models.implicit.als import Als
from gleaner.core.models.neighbours.item_knn import ItemKnn
from gleaner.core.ranking.topn import top_n, top_of
from gleaner.core.splits.truth import Truth
from reference import lists as naive
from worlds import ids, random_matrix

FEW = st.sampled_from([0.0, -0.0, 1.0, 2.0, -1.0, float("-inf"), float("nan")])


@settings(max_examples=150)
@given(
    st.lists(st.one_of(FEW, st.floats(-5, 5, width=32)), min_size=1, max_size=200),
    st.integers(1, 30),
    st.integers(0, 99),
)
def test_the_scan_finds_what_sorting_finds(scores, n, seed):
    order = np.random.default_rng(seed).permutation(len(scores)).astype(np.int32)
    lists = top_of(np.array(scores, np.float32), n, order)
    comparable = [-np.inf if np.isnan(score) else np.float32(score) for score in scores]
    assert lists.items.tolist() == naive.top_n(comparable, order, n)


def test_the_scan_does_the_same_uncompiled():
    scores = np.random.default_rng(1).integers(0, 9, (3, 150)).astype(np.float32)
    order = np.random.default_rng(2).permutation(150).astype(np.int32)
    actual = []
    for kernel in (kernels.select_rows, kernels.select_rows.py_func):
        items, best = np.empty((3, 10), np.int32), np.empty((3, 10), np.float32)
        kernel(scores, order, items, best)
        actual.append((items, best))
    np.testing.assert_array_equal(actual[0][0], actual[1][0])
    np.testing.assert_array_equal(actual[0][1], actual[1][1])


@pytest.mark.parametrize("model", [Als(rank=3), ItemKnn(), Popular()])
def test_lists_leave_out_what_users_have(model):
    matrix = random_matrix(4, n_users=50, n_items=20)
    model.fit(matrix)
    order = tie_order(matrix.items)
    rows = np.array([49, 0, 7, 7], dtype=np.int32)
    lists = top_n(model, rows, 20, order, exclude=matrix)
    scores = model.scores(rows)
    for place, user in enumerate(rows):
        excluded = matrix.history(user)[0].tolist()
        expected = naive.top_n(scores[place].tolist(), order, 20, excluded)
        assert lists.items[place].tolist() == expected + [-1] * len(excluded)


@pytest.mark.parametrize("n", [0, -3, 2.5])
def test_a_list_has_at_least_one_place(n):
    with pytest.raises(ParameterError, match=f"n must be a whole number of at least 1, not {n}"):
        top_of(np.ones(3, np.float32), n, np.arange(3, dtype=np.int32))


def test_a_list_is_never_longer_than_the_catalogue():
    assert top_of(np.ones(3, np.float32), 99, np.array([2, 0, 1], np.int32)).items.tolist() == [1, 2, 0]


def test_ties_fall_by_seed_and_id_and_not_by_row():
    items = ids("i", 200)
    order = tie_order(items, seed=1)
    assert sorted(order) == list(range(200))
    assert order.tolist() != list(range(200))
    assert order.tolist() != tie_order(items, seed=2).tolist()
    turned = items.subset(np.arange(199, -1, -1))
    assert tie_order(turned, seed=1)[::-1].tolist() == order.tolist()


def truth_of(relevant: list[list[int]]) -> Truth:
    counts = [len(each) for each in relevant]
    indices = np.array([item for each in relevant for item in sorted(each)], np.int32)
    return Truth(np.arange(len(relevant), dtype=np.int32), np.cumsum([0, *counts]), indices, 0, 0, 0)


def test_metrics_by_hand():
    lists = np.array([[4, 1, 9], [2, 3, -1]], np.int32)
    figures, places = list_figures(lists, truth_of([[1, 9, 7], [5]]), list(RANKING), [1, 3])
    assert places.tolist() == [2, 0, 3, 0]
    gained = 1 / np.log2(3) + 1 / np.log2(4)
    best = 1 + 1 / np.log2(3) + 1 / np.log2(4)
    assert figures["ndcg@3"] == pytest.approx([gained / best, 0])
    assert figures["recall@3"] == pytest.approx([2 / 3, 0])
    assert figures["precision@3"] == pytest.approx([2 / 3, 0])
    assert figures["hit@3"].tolist() == [1, 0]
    assert figures["hit@1"].tolist() == [0, 0]
    assert figures["map@3"] == pytest.approx([(1 / 2 + 2 / 3) / 3, 0])
    assert figures["mrr@3"].tolist() == [1 / 2, 0]
    assert figures["mrr@1"].tolist() == [0, 0]


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_metrics_agree_with_plain_counting(seed):
    random = np.random.default_rng(seed)
    lists = np.array([random.permutation(30)[:12] for _ in range(40)], np.int32)
    lists[3, 5:] = -1
    relevant = [random.choice(30, random.integers(1, 15), replace=False).tolist() for _ in range(40)]
    figures, _ = list_figures(lists, truth_of(relevant), list(naive.METRICS), [1, 5, 12])
    for name, metric in naive.METRICS.items():
        for k in (1, 5, 12):
            expected = [
                metric([i for i in row if i >= 0], set(wanted), k) for row, wanted in zip(lists, relevant, strict=True)
            ]
            assert figures[f"{name}@{k}"] == pytest.approx(expected), (name, k)


def test_an_unknown_metric_lists_what_there_is():
    with pytest.raises(
        ParameterError, match="there is no metric 'magic'; there are: ndcg, ndcg_graded, recall, precision, map, mrr"
    ):
        require_metric("magic")


def test_intervals_hold_the_mean_and_repeat():
    figures = np.random.default_rng(0).normal(3, 1, (400, 2))
    actual = intervals(figures, seed=1)
    for column, interval in enumerate(actual):
        assert interval.mean == pytest.approx(figures[:, column].mean())
        # the normal interval of 400 draws of spread 1 is 0.098 wide on either side
        assert interval.high - interval.mean == pytest.approx(0.098, abs=0.02)
        assert interval.mean - interval.low == pytest.approx(0.098, abs=0.02)
    assert actual == intervals(figures, seed=1)
    assert actual != intervals(figures, seed=2)


def test_columns_of_their_own_users_have_the_intervals_they_have_alone():
    random = np.random.default_rng(0)
    columns = [random.normal(size=n) for n in (40, 60, 40)]
    for column, interval in zip(columns, intervals_each(columns, seed=1), strict=True):
        alone = intervals(column[:, None], seed=1)[0]
        # products of one column and of two are added up in another order
        assert astuple(interval) == pytest.approx(astuple(alone), rel=1e-12)


def test_pairing_sees_a_small_steady_difference():
    other = np.random.default_rng(0).normal(0, 5, 300)
    actual = paired_difference(other + 0.1, other, seed=1)
    assert (actual.low, actual.mean, actual.high) == pytest.approx((0.1, 0.1, 0.1))


def test_evaluation_refuses_what_it_cannot_score():
    matrix = random_matrix(1)
    model, order = Popular().fit(matrix), tie_order(matrix.items)
    with pytest.raises(ParameterError, match="k = 10 is more than the catalogue of the training part has"):
        evaluate(model, matrix, truth_of([[1]]), RankPlan(["ndcg"], [10], 1), order)
    with pytest.raises(DataError, match="no user has a relevant item"):
        evaluate(model, matrix, truth_of([]), RankPlan(["ndcg"], [5], 1), order)


@given(st.lists(st.integers(0, 50), min_size=1, max_size=60), st.integers(1, 20))
def test_ranges_cover_every_row_once(lengths, n_ranges):
    indptr = np.cumsum([0, *lengths])
    ranges = parallel.balanced_ranges(indptr, n_ranges)
    assert [row for lo, hi in ranges for row in range(lo, hi)] == list(range(len(lengths)))
    assert len(ranges) <= n_ranges
    heaviest = max(sum(lengths[lo:hi]) + hi - lo for lo, hi in ranges)
    assert heaviest <= (sum(lengths) + len(lengths)) / min(n_ranges, len(lengths)) + max(lengths) + 1


@pytest.mark.parametrize("threads", [1, 3])
def test_ranges_report_stop_and_fail(threads):
    ranges = [(row, row + 1) for row in range(20)]
    done = []
    parallel.run_ranges(lambda lo, hi: done.append(lo), ranges, threads=threads)
    assert sorted(done) == list(range(20))
    with pytest.raises(CancelledError):
        parallel.run_ranges(lambda lo, hi: None, ranges, threads=threads, progress=lambda share: share < 0.5)

    def fail(lo, hi):
        raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        parallel.run_ranges(fail, ranges, threads=threads)


ALLOWED = {"numpy", "scipy", "numba", "llvmlite", "optuna", "lightgbm", "polars", "pyarrow", "threadpoolctl", "usearch",
           "onnx", "onnxruntime", "tokenizers", "torch", "gleaner"}  # fmt: skip
CLOCKS = {"time", "os.environ"}


def test_the_core_imports_computation_only():
    import sys

    for path in Path(gleaner.core.__file__).parent.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            for name in names:
                top = name.split(".")[0]
                assert top in ALLOWED or top in sys.stdlib_module_names, f"{path.name} imports {name}"
                assert name not in CLOCKS, f"{path.name} imports {name}"
                assert not name.startswith("gleaner") or name.startswith("gleaner.core"), f"{path.name} imports {name}"
