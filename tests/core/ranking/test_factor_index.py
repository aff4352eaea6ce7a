"""The bounded walk over items against scoring and sorting them all."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gleaner.core.errors import ParameterError
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.registry import build
from gleaner.core.ranking import factor_index
from gleaner.core.ranking.approximate import ApproximateIndex
from gleaner.core.ranking.factor_index import FactorIndex, ListQuery
from gleaner.core.ranking.topn import top_n
from reference import lists as naive
from tolerances import KEPT, SINGLE, SUMMED
from worlds import rated_matrix


def whole_numbers(rng, n, width, spread):
    """Factors whose products are exact in 32 bits and often equal."""
    return rng.integers(-spread, spread + 1, (n, width)).astype(np.float32)


@settings(max_examples=120)
@given(st.integers(1, 700), st.integers(1, 40), st.integers(1, 30), st.sampled_from([0, 1, 9]), st.integers(0, 10_000))
def test_the_walk_finds_what_sorting_finds(n_items, width, n, spread, seed):
    rng = np.random.default_rng(seed)
    items, user = whole_numbers(rng, n_items, width, spread), whole_numbers(rng, 1, width, spread)[0]
    ties = rng.permutation(n_items).astype(np.int32)
    allowed = rng.random(n_items) < 0.6
    left_out = np.flatnonzero(rng.random(n_items) < 0.2).astype(np.int32)
    index = FactorIndex.of(items, ties)
    scores = (items.astype(int) @ user.astype(int)).tolist()
    assert index.best(user, n).items.tolist() == naive.top_n(scores, ties, n)
    excluded = set(left_out.tolist()) | set(np.flatnonzero(~allowed).tolist())
    lists = index.best(user, n, allowed, left_out)
    expected = naive.top_n(scores, ties, n, excluded)
    assert lists.items.tolist() == expected
    assert lists.scores.tolist() == [scores[i] for i in expected]


@settings(max_examples=80)
@given(st.integers(1, 900), st.integers(1, 40), st.integers(1, 9), st.integers(1, 3), st.integers(0, 10_000))
def test_several_walk_together_to_what_each_finds_alone(n_items, width, n_users, turns, seed):
    rng = np.random.default_rng(seed)
    items, users = whole_numbers(rng, n_items, width, 3), whole_numbers(rng, n_users, width, 3)
    ties = rng.permutation(n_items).astype(np.int32)
    masks = [None, rng.random(n_items) < 0.5, rng.random(n_items) < 0.9]
    index = FactorIndex.of(items, ties)
    wanted = [
        ListQuery(user, int(rng.integers(1, 30)), masks[place % 3], np.flatnonzero(rng.random(n_items) < 0.1).astype(np.int32))
        for place, user in enumerate(users)
    ]  # fmt: skip
    shares = [index.several(wanted, turn, turns)[0] for turn in range(turns)]
    for each, *parts in zip(wanted, *shares, strict=True):
        allowed = np.ones(n_items, dtype=bool) if each.allowed is None else each.allowed
        excluded = set(each.left_out.tolist()) | set(np.flatnonzero(~allowed).tolist())
        scores = (items.astype(int) @ each.user.astype(int)).tolist()
        expected = naive.top_n(scores, ties, each.n, excluded)
        lists = index._merged(parts, each.n)
        assert lists.items.tolist() == expected
        assert lists.scores.tolist() == [scores[i] for i in expected]


@pytest.mark.parametrize("turns", [1, 2])
def test_a_walk_goes_through_many_stretches(turns):
    """Steps and weights change every 4,096 items. Those of the first go in other directions than the rest, so what was
    weighed for them tells nothing of the rest."""
    rng = np.random.default_rng(11)
    n_items, n_first = 20_000, 5_000
    items, users = whole_numbers(rng, n_items, 36, 3), whole_numbers(rng, 6, 36, 3)
    items[:n_first] *= 8
    items[:n_first, 18:], items[n_first:, :18] = 0, 0
    allowed = np.arange(n_items) >= n_first
    ties = rng.permutation(n_items).astype(np.int32)
    index = FactorIndex.of(items, ties)
    wanted = [ListQuery(user, 12, allowed) for user in users]
    shares = [index.several(wanted, turn, turns)[0] for turn in range(turns)]
    for each, *parts in zip(wanted, *shares, strict=True):
        scores = np.where(allowed, items.astype(int) @ each.user.astype(int), -(10**6))
        expected = np.lexsort((ties, -scores))[:12].tolist()
        assert index._merged(parts, 12).items.tolist() == expected
        assert index.best(each.user, 12, allowed).items.tolist() == expected


def test_a_large_catalogue_is_asked_together(monkeypatch):
    monkeypatch.setattr(factor_index, "GATHERED_BLOCKS", 2)
    rng = np.random.default_rng(8)
    items, users = whole_numbers(rng, 3000, 8, 4), whole_numbers(rng, 40, 8, 4)
    index = FactorIndex.of(items, rng.permutation(3000).astype(np.int32))
    alone = [index.several([ListQuery(user, 7)])[0][0] for user in users]
    with ThreadPoolExecutor(8) as pool:
        together = list(pool.map(lambda user: index.best(user, 7), users))
    for one, other in zip(alone, together, strict=True):
        assert one.items.tolist() == other.items.tolist()


def test_a_kernel_is_compiled_once_whatever_may_be_written_to():
    rng = np.random.default_rng(6)
    items, user, left_out = whole_numbers(rng, 40, 4, 3), whole_numbers(rng, 1, 4, 3)[0], np.arange(2, dtype=np.int32)
    for array in (items, user, left_out):
        index = FactorIndex.of(items, np.arange(40, dtype=np.int32))
        index.best(user, 5, None, left_out)
        index.several([ListQuery(user, 5, None, left_out)])
        array.flags.writeable = False
    index.best(user, 5, np.ones(40, dtype=bool), left_out)
    assert len(factor_index.best_items.signatures) == 1
    assert len(factor_index.best_items_of_several.signatures) == 1


def test_most_items_are_spared_where_their_norms_differ():
    rng = np.random.default_rng(3)
    n_items = 20_000
    popular = np.float32(1) / np.sqrt(np.arange(1, n_items + 1, dtype=np.float32))
    items = rng.normal(0, 1, (n_items, 32)).astype(np.float32) * (0.7 ** np.arange(32)).astype(np.float32)
    items *= rng.permutation(popular)[:, None]
    index = FactorIndex.of(items, np.arange(n_items, dtype=np.int32))
    for user in rng.normal(0, 1, (20, 32)).astype(np.float32):
        [actual], scored = index.several([ListQuery(user, 10)])
        exact = items.astype(np.float64) @ user
        np.testing.assert_allclose(actual.scores, np.sort(exact)[::-1][:10], rtol=SINGLE)
        assert scored < 600


@pytest.mark.parametrize("name", ["als", "bpr", "sgd_values", "item_knn", "popular"])
def test_one_users_list_is_the_row_of_everybodys(name):
    matrix = rated_matrix(4, n_users=60)
    fitted = Fitted(
        "m", build(name, {"rank": 4} if "item" not in name and name != "popular" else {}).fit(matrix), matrix
    )
    allowed = np.random.default_rng(2).random(len(matrix.items)) < 0.7
    everybody = top_n(fitted.model, np.arange(60, dtype=np.int32), 5, fitted.ties, exclude=matrix, allowed=allowed)
    for row in range(60):
        lists = fitted.best_for(row, 5, allowed, matrix.history(row)[0])
        listed = everybody.items[row][everybody.items[row] >= 0]
        assert lists.items.tolist() == listed.tolist()
        np.testing.assert_allclose(lists.scores, everybody.scores[row][: len(listed)], rtol=SUMMED, atol=KEPT)


def test_no_place_is_refused():
    with pytest.raises(ParameterError, match="n must be a whole number of at least 1"):
        FactorIndex.of(np.ones((3, 2), np.float32), np.arange(3, dtype=np.int32)).best(np.ones(2, np.float32), 0)


def test_the_graph_of_a_small_catalogue_is_the_same_however_often_it_is_built():
    rng = np.random.default_rng(7)
    items, users = (rng.normal(0, 1, (count, 16)).astype(np.float32) for count in (800, 30))
    exact = FactorIndex.of(items, np.arange(800, dtype=np.int32))

    def candidates() -> list[list[int]]:
        index = ApproximateIndex.of(exact, 100)
        return [np.asarray(index.graph.search(np.append(user, np.float32(0)), 100).keys).tolist() for user in users]

    first = candidates()
    assert all(candidates() == first for _ in range(5))


def test_an_approximate_list_is_scored_exactly_and_its_recall_is_what_counting_says():
    rng = np.random.default_rng(5)
    items = rng.normal(0, 1, (3000, 16)).astype(np.float32) * (0.8 ** np.arange(16)).astype(np.float32)
    users = rng.normal(0, 1, (40, 16)).astype(np.float32)
    exact = FactorIndex.of(items, rng.permutation(3000).astype(np.int32))
    index = ApproximateIndex.of(exact, 100)
    shares = []
    for user in users:
        scores = (items.astype(np.float64) @ user).tolist()
        best = set(sorted(range(3000), key=lambda i: -scores[i])[:10])
        lists = index.best(user, 10)
        np.testing.assert_allclose(lists.scores, [scores[i] for i in lists.items], rtol=SUMMED)
        assert lists.scores.tolist() == sorted(lists.scores.tolist(), reverse=True)
        shares.append(len(best & set(lists.items.tolist())) / 10)
    measured = index.recall(users, 10)
    assert (measured.users, measured.n) == (40, 10)
    assert (measured.mean, measured.least) == (pytest.approx(np.mean(shares)), min(shares))
    assert measured.mean > 0.9
    # a condition that leaves little of what the graph finds is answered exactly
    allowed = np.zeros(3000, dtype=bool)
    allowed[rng.permutation(3000)[:12]] = True
    excluded = np.flatnonzero(allowed)[:1].astype(np.int32)
    assert (
        index.best(users[0], 11, allowed, excluded).items.tolist()
        == exact.best(users[0], 11, allowed, excluded).items.tolist()
    )
