"""Metrics of the whole order and of what lists show, graded gains, thresholds and comparisons, against plain counting."""

from __future__ import annotations

import dataclasses
import math
import re

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import sparse
from sklearn.metrics import ndcg_score

from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError, ParameterError
from gleaner.core.metrics.catalogue import METRICS, MetricReference
from gleaner.core.metrics.content import content_of
from gleaner.core.metrics.evaluation import RankPlan, evaluate, figures_of
from gleaner.core.metrics.exposure import ContentVectors, ShownLists
from gleaner.core.metrics.statistics import bootstrap_means, compare_all, holm
from gleaner.core.metrics.verdicts import sentences
from gleaner.core.models.base.registry import build
from gleaner.core.preparation.prepare import build_matrix, keep_rows
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.truth import Relevance, Truth
from gleaner.core.splits.truth import truth_of as held_truth
from gleaner.wire.contests.rank import MetricFacts, RankSpec
from reference import lists as naive
from tolerances import EXACT
from worlds import ids, random_matrix

AT = [1, 3, 8]
N_ITEMS = 30


@pytest.fixture(scope="module")
def world():
    """A matrix, a fitted model with many ties, and held-out items with gains."""
    matrix = random_matrix(6, n_users=40, n_items=N_ITEMS)
    random = np.random.default_rng(3)
    rows, pairs, gains = [], [], []
    for user in range(40):
        free = np.setdiff1d(np.arange(N_ITEMS), matrix.history(user)[0])
        if len(free) > 3:
            held_out = np.sort(random.choice(free, random.integers(1, 4), replace=False))
            rows.append(user)
            pairs.append(held_out)
            gains.append(random.integers(1, 6, len(held_out)))
    indptr = np.cumsum([0, *map(len, pairs)])
    flat = np.concatenate(pairs).astype(np.int32), np.concatenate(gains).astype(np.float32)
    truth = Truth(np.array(rows, np.int32), indptr, flat[0], 0, 0, 0, gains=flat[1])
    return matrix, truth


def ordered(scores, matrix, user, ties):
    """Every candidate in order."""
    return naive.top_n(scores, ties, N_ITEMS, excluded=matrix.history(user)[0].tolist())


def test_the_order_of_the_whole_catalogue_agrees_with_sorting(world):
    matrix, truth = world
    ties = tie_order(matrix.items)
    for family in ("item_knn", "popular", "als"):
        model = build(family, {"rank": 3} if family == "als" else {}).fit(matrix)
        figures = evaluate(model, matrix, truth, RankPlan(["auc", "percentile_rank", "ndcg"], AT, 1), ties)
        for place, user in enumerate(truth.user_rows):
            ranked = ordered(model.scores(np.array([user], np.int32))[0], matrix, user, ties)
            relevant = set(truth.indices[truth.indptr[place] : truth.indptr[place + 1]].tolist())
            assert figures.per_user["auc"][place] == pytest.approx(naive.auc(ranked, relevant))
            assert figures.per_user["percentile_rank"][place] == pytest.approx(naive.percentile_rank(ranked, relevant))
            assert figures.per_user["ndcg@3"][place] == pytest.approx(naive.ndcg(ranked, relevant, 3))


def test_items_without_a_score_stand_last_in_order_of_ties():
    matrix = random_matrix(6, n_users=40, n_items=N_ITEMS)

    class Half:
        personal = True

        def factors(self):
            return None

        def scores(self, rows):
            table = np.tile(np.arange(N_ITEMS, dtype=np.float32), (len(rows), 1))
            table[:, ::2], table[:, 4] = -np.inf, np.nan
            return table

    free = np.setdiff1d(np.arange(N_ITEMS), matrix.history(0)[0]).astype(np.int32)
    truth = Truth(np.zeros(1, np.int32), np.array([0, len(free)]), free, 0, 0, 0)
    ties = tie_order(matrix.items)
    from gleaner.core.ranking.topn import Pairs, top_n

    lists = top_n(Half(), truth.user_rows, 3, ties, exclude=matrix, places_of=Pairs(truth.indptr, free))
    scores = [i if i % 2 else -math.inf for i in range(N_ITEMS)]
    order = sorted(free.tolist(), key=lambda i: (-scores[i], ties[i]))
    assert lists.ranks.tolist() == [order.index(i) + 1 for i in free.tolist()]


def test_graded_gains_agree_with_plain_counting_and_with_another_library(world):
    matrix, truth = world
    model, ties = build("als", {"rank": 3}).fit(matrix), tie_order(matrix.items)
    figures = evaluate(model, matrix, truth, RankPlan(["ndcg_graded", "ndcg"], AT, 1), ties).per_user
    for place, user in enumerate(truth.user_rows):
        scores = model.scores(np.array([user], np.int32))[0].astype(float)
        ranked = ordered(scores, matrix, user, ties)
        cut = slice(truth.indptr[place], truth.indptr[place + 1])
        gains = dict(zip(truth.indices[cut].tolist(), truth.gains[cut].tolist(), strict=True))
        for k in AT:
            assert figures[f"ndcg_graded@{k}"][place] == pytest.approx(naive.ndcg_graded(ranked, gains, k))
        # by place and not by score: it shares out ties, we break them
        falling = [list(range(len(ranked), 0, -1))]
        worth = [[gains.get(item, 0) for item in ranked]]
        assert figures["ndcg_graded@8"][place] == pytest.approx(ndcg_score(worth, falling, k=8))
        plain = [[float(item in gains) for item in ranked]]
        assert figures["ndcg@8"][place] == pytest.approx(ndcg_score(plain, falling, k=8))


def vectors_of(table):
    return [{f: float(v) for f, v in enumerate(row) if v} for row in table]


def test_what_lists_show_agrees_with_plain_counting(world):
    matrix, truth = world
    random = np.random.default_rng(8)
    content = np.round(random.random((N_ITEMS, 5)), 1) * (random.random((N_ITEMS, 5)) < 0.6)
    groups = (random.random((N_ITEMS, 4)) < 0.4).astype(float)
    content[5], groups[6] = 0, 0
    lists = np.array([random.permutation(N_ITEMS)[:8] for _ in truth.user_rows], np.int32)
    lists[0, 1:], lists[1, 4:], lists[2] = -1, -1, -1
    shown = ShownLists(
        lists, truth.user_rows, matrix, matrix, ContentVectors(sparse.csr_array(content), sparse.csr_array(groups))
    )
    names = [name for name, metric in METRICS.items() if metric.at_k]
    figures = figures_of(shown, truth, RankPlan(names, AT, 1))
    counts = np.bincount(matrix.indices, minlength=N_ITEMS)
    columns = [
        {int(u): 1.0 for u in np.flatnonzero([i in matrix.history(v)[0] for v in range(40)])} for i in range(N_ITEMS)
    ]
    shares = [{g: 1 / sum(row) for g, v in enumerate(row) if v} for row in groups]
    plain = [[int(i) for i in row if i >= 0] for row in lists]
    for k in AT:
        for place, (ranked, user) in enumerate(zip(plain, truth.user_rows, strict=True)):
            cut, mine = (
                ranked[:k],
                {name: figures.per_user[f"{name}@{k}"][place] for name in names if METRICS[name].per_user},
            )
            expected = {
                "popularity": sum(counts[i] for i in cut) / len(cut) if cut else None,
                "novelty": sum(-math.log2(max(counts[i], 1) / 40) for i in cut) / len(cut) if cut else None,
                "diversity": naive.spread(ranked, vectors_of(content), k),
                "diversity_seen": naive.spread(ranked, columns, k),
                "calibration": naive.divergence(ranked, matrix.history(user)[0].tolist(), shares, k),
                "user_coverage": float(len(ranked) >= k),
            }
            for name, value in expected.items():
                assert mine[name] == pytest.approx(math.nan if value is None else value, nan_ok=True, abs=EXACT), name
        listed = [i for ranked in plain for i in ranked[:k]]
        assert figures.whole[f"coverage@{k}"] == len(set(listed)) / N_ITEMS
        assert figures.whole[f"gini@{k}"] == pytest.approx(naive.gini([listed.count(i) for i in range(N_ITEMS)]))
        assert figures.whole[f"personalisation@{k}"] == pytest.approx(naive.personalisation(plain, k))
        # users without a figure do not count in the mean
        there = [f for f in figures.per_user[f"diversity@{k}"] if not math.isnan(f)]
        assert figures.means[f"diversity@{k}"].mean == pytest.approx(
            sum(there) / len(there) if there else math.nan, nan_ok=True
        )


def test_random_lists_come_out_as_chance_predicts(world):
    matrix, truth = world
    figures = [
        evaluate(build("random", {"seed": seed}).fit(matrix), matrix, truth, RankPlan(["auc", "precision"], [5], 1), tie_order(matrix.items))
        for seed in range(60)
    ]  # fmt: skip
    # chance: more than three deviations of the mean over the seeds
    assert np.mean([each.means["auc"].mean for each in figures]) == pytest.approx(0.5, abs=0.02)
    candidates = N_ITEMS - np.diff(matrix.indptr)[truth.user_rows]
    expected = np.mean(np.diff(truth.indptr) / candidates)
    # the same; hits are fewer than pairs
    assert np.mean([each.means["precision@5"].mean for each in figures]) == pytest.approx(expected, rel=0.1)


def test_a_metric_without_its_columns_says_which_field_to_fill(world):
    matrix, truth = world
    model = build("popular", {}).fit(matrix)
    for metric, field in (("diversity", "rank.content"), ("calibration", "rank.categories")):
        with pytest.raises(ParameterError, match=f"{metric} needs item columns: name them in {field}"):
            evaluate(model, matrix, truth, RankPlan([metric], [3], 1), tie_order(matrix.items))


def test_content_is_lined_up_with_the_matrix_by_id():
    table = pl.DataFrame(
        {"id": ["i2", "i0", "i9", "i8"], "family": ["pea", "bean", "bean", "pea"], "traits": [["a", "b"], None, ["c"], []], "site": ["http://a", None, None, None]}
    )  # fmt: skip
    content = content_of(table, ids("i", 3), ["family", "traits"], "traits")
    dense = content.vectors.toarray()
    assert dense.shape[0] == 3
    assert dense[1].sum() == 0
    assert dense[0].sum() == 2  # bean, and traits missing
    assert dense[2].sum() == 3  # pea, a, b; c belongs to an item training never saw
    assert content.groups.toarray().sum(axis=1).tolist() == [0, 0, 2]
    with pytest.raises(DataError, match="the item table has no column 'kind'; there are: family, traits, site"):
        content_of(table, ids("i", 3), ["kind"], None)
    with pytest.raises(DataError, match="holds a link, which says nothing of content"):
        content_of(table.with_columns(site=pl.lit("http://a.b/c")), ids("i", 3), ["site"], None)


def rows_of(cells, scale=None):
    frame = pl.DataFrame(cells, schema=["user", "item", "value"], orient="row")
    rows = InteractionRows.from_arrow(frame.with_columns(pl.col("value").cast(pl.Float64)).to_arrow(), scale)
    return keep_rows(rows, Preparation(use="values"))[0]


def test_what_is_relevant_is_declared():
    scale = (1.0, 5.0)
    train, _ = build_matrix(
        rows_of([("a", "x", 2), ("a", "y", 4), ("b", "z", 5), ("b", "w", 5)], scale), Preparation(use="values")
    )
    held_out = rows_of(
        [("a", "z", 3), ("a", "z", 5), ("a", "w", 3), ("b", "x", 5), ("b", "y", 1), ("b", "z", 5)], scale
    )
    everything = held_truth(held_out, train)
    assert (len(everything.indices), everything.known_pairs, everything.not_relevant) == (4, 1, 0)
    # 1 for the lowest of the scale and so on up; z was rated twice, its highest value counts
    names = [train.items.ids.to_pylist()[i] for i in everything.indices]
    assert dict(zip(zip(np.repeat(["a", "b"], 2), names, strict=True), everything.gains, strict=True)) == {
        ("a", "w"): 3, ("a", "z"): 5, ("b", "x"): 5, ("b", "y"): 1,
    }  # fmt: skip
    liked = held_truth(held_out, train, relevance=Relevance(at_least=4))
    assert (len(liked.indices), liked.not_relevant, liked.gains.tolist()) == (2, 2, [5, 5])
    above = held_truth(held_out, train, relevance=Relevance(above_own_mean=True))
    # a's own mean is 3, b's is 5: only a's z is above
    assert (above.user_rows.tolist(), len(above.indices), above.not_relevant) == ([0], 1, 3)


def test_a_gap_in_the_figures_is_no_zero():
    figures = np.random.default_rng(1).random((300, 2))
    figures[:100, 1] = np.nan
    means = bootstrap_means(figures, 5)
    # the mean of the resamples is the mean but for their chance
    assert means[:, 1].mean() == pytest.approx(figures[100:, 1].mean(), abs=0.01)
    random = np.random.Generator(np.random.PCG64(5))
    drawn = random.integers(0, 300, size=(1000, 300))
    assert means[7, 0] == pytest.approx(figures[drawn[7], 0].mean())
    assert means[7, 1] == pytest.approx(np.nanmean(figures[drawn[7], 1]))


@given(st.lists(st.floats(0, 1), min_size=1, max_size=12))
def test_holm_agrees_with_stepping_down(chances):
    assert holm(np.array(chances)).tolist() == pytest.approx(naive.holm(chances))


def test_pairs_are_told_apart_where_they_differ_and_not_where_they_do_not():
    random = np.random.default_rng(2)
    base = random.random(400)
    figures = {
        "popular": base,
        "als": base + 0.1 + random.normal(0, 0.2, 400),
        "bpr": base + 0.1 + random.normal(0, 0.2, 400),
        "random": base - 0.3 + random.normal(0, 0.2, 400),
    }
    actual = {(each.first, each.second): each for each in compare_all(figures, 1, 1)}
    assert len(actual) == 6
    assert actual["popular", "als"].verdict == "worse"
    assert actual["als", "bpr"].verdict == "cannot tell"
    assert actual["als", "random"].verdict == "better"
    # the paired randomisation test (signs turned at random) has about the same p
    gap = figures["als"] - figures["bpr"]
    turned = np.abs((random.choice([-1, 1], (4000, 400)) * gap).mean(axis=1)) >= abs(gap.mean())
    # a t-test beside as many random turns as the test takes
    assert actual["als", "bpr"].p == pytest.approx(turned.mean(), abs=0.03)
    assert actual["als", "bpr"].p_holm >= actual["als", "bpr"].p
    lower = {(each.first, each.second): each.verdict for each in compare_all(figures, -1, 1)}
    assert lower["popular", "als"] == "better"
    means = {name: float(values.mean()) for name, values in figures.items()}
    leader = max(means, key=means.__getitem__)
    second = ({"als", "bpr"} - {leader}).pop()
    lines = sentences(means, list(actual.values()), "ndcg@10", leader, "popular")
    assert lines[0] == f"{leader} is better than popular and random on ndcg@10."
    assert lines[1].startswith(f"Cannot tell {leader} from {second} at this size: ")
    assert lines[2] == "Worse than popular: random."
    # a leader on validation that another one beats on the test part
    lines = sentences(means, list(actual.values()), "ndcg@10", "popular", "popular")
    assert (
        f"popular is worse than {' and '.join(sorted(['als', 'bpr'], key=lambda name: -means[name]))} on ndcg@10."
        in lines
    )
    noisy = {"popular": base, "alike": base + random.normal(0, 0.2, 400)}
    [undecided] = compare_all(noisy, 1, 1)
    assert undecided.verdict == "cannot tell"
    noisy_means = {name: float(values.mean()) for name, values in noisy.items()}
    assert (
        sentences(noisy_means, [undecided], "ndcg@10", "popular", "popular")[-1] == "Not shown to beat popular: alike."
    )


def test_equal_and_constant_differences_have_no_doubt_or_all():
    base = np.random.default_rng(2).random(50)
    [same] = compare_all({"a": base, "b": base.copy()}, 1, 1)
    assert (same.p, same.verdict) == (1.0, "cannot tell")
    [apart] = compare_all({"a": np.ones(50), "b": np.zeros(50)}, 1, 1)
    assert (apart.p, apart.verdict, apart.low, apart.high) == (0.0, "better", 1.0, 1.0)


def test_a_metric_is_read_with_its_cut_off_in_one_place():
    for name, metric in METRICS.items():
        written = f"{name}@10" if metric.at_k else name
        reference = MetricReference.parse(written)
        assert (reference.label, reference.name, reference.k) == (written, name, 10 if metric.at_k else None)
        assert RankSpec(metrics=[name], at=[10], decide_by=written).references() == [reference]
        facts = MetricFacts.of(reference)
        assert (facts.label, facts.better, facts.per_user) == (written, metric.better, metric.per_user)
    assert {name for name, metric in METRICS.items() if not metric.at_k} == {
        "auc", "percentile_rank", "rmse", "mae", "r2", "brier", "log_loss",
    }  # fmt: skip
    for wrong, text in (
        ("ndgc@10", "there is no metric 'ndgc'; did you mean 'ndcg'?"),
        ("ndcg", "ndcg is read at a cut-off of at least 1, as in ndcg@10, not 'ndcg'"),
        ("ndcg@0", "not 'ndcg@0'"),
        ("ndcg@-3", "not 'ndcg@-3'"),
        ("ndcg@\u0663", "not 'ndcg@\u0663'"),
        ("auc@10", "auc is not read at a cut-off, so it is written auc, not 'auc@10'"),
    ):
        with pytest.raises(ParameterError, match=re.escape(text)):
            MetricReference.parse(wrong)
    assert all(dataclasses.asdict(metric)["definition"] for metric in METRICS.values())
