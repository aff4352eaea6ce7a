"""Diverse, random and interleaved orders of candidates against plain Python; windows against counting by hand."""

from __future__ import annotations

from collections import Counter
from itertools import permutations
from math import exp

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.data.windows import DAY_US, MappedRows, TimedRows, popular_within, trending_within
from gleaner.core.ranking.reranking import (
    by_score,
    cosines_within,
    diversified,
    interleaved,
    sampled,
    shared_groups,
    standardised,
)
from tolerances import EXACT

SCORES = st.lists(st.integers(-8, 8), min_size=1, max_size=9)


@given(SCORES)
def test_the_order_by_score_breaks_ties_as_told(values):
    ties = np.random.default_rng(3).permutation(len(values))
    expected = sorted(range(len(values)), key=lambda at: (-values[at], ties[at]))
    assert by_score(np.array(values, dtype=np.float32), ties).tolist() == expected


def plain_diversified(values, likeness, ties, weight):
    low, high = min(values), max(values)
    span = (high - low) or 1.0
    standing, left = [], list(range(len(values)))
    while left:

        def worth(at):
            nearest = max((likeness[other][at] for other in standing), default=0.0)
            return (1 - weight) * (values[at] - low) / span - weight * nearest

        best = min(left, key=lambda at: (-worth(at), ties[at]))
        standing.append(best)
        left.remove(best)
    return standing


@given(SCORES, st.sampled_from([0.0, 0.25, 0.5, 1.0]), st.integers(0, 5))
def test_a_spread_out_order_weighs_each_next_one_against_those_that_stand(values, weight, seed):
    random = np.random.default_rng(seed)
    ties = random.permutation(len(values))
    # eighths, so that sums are exact and ties are ties for both
    likeness = random.integers(0, 9, (len(values), len(values))) / 8
    likeness = (likeness + likeness.T) / 2
    actual = diversified(np.array(values, dtype=np.float64), likeness, ties, weight)
    span = (max(values) - min(values)) or 1
    if span in (1, 2, 4, 8, 16):
        assert actual.tolist() == plain_diversified(values, likeness.tolist(), ties.tolist(), weight)
    assert sorted(actual.tolist()) == list(range(len(values)))
    if weight == 0:
        assert actual.tolist() == by_score(np.array(values, dtype=np.float64), ties).tolist()


def test_items_drawn_stand_as_often_as_their_chances_say():
    scores, temperature, draws = np.array([2.0, 1.0, 0.0]), 0.8, 40_000
    t = scores.std() * temperature
    random = np.random.default_rng(11)
    seen = Counter(tuple(sampled(scores, temperature, random)[0].tolist()) for _ in range(draws))
    for order in permutations(range(3)):
        left, chance = [0, 1, 2], 1.0
        for item in order:
            chance *= exp(scores[item] / t) / sum(exp(scores[other] / t) for other in left)
            left.remove(item)
        error = (chance * (1 - chance) / draws) ** 0.5
        assert abs(seen[order] / draws - chance) < 4.5 * error, order


@given(SCORES, st.sampled_from([0.1, 1.0, 20.0]))
def test_each_place_has_the_chance_of_its_turn(values, temperature):
    scores = np.array(values, dtype=np.float64)
    order, chances = sampled(scores, temperature, np.random.default_rng(1))
    t = float(scores.std()) * temperature
    left = list(range(len(values)))
    for item, chance in zip(order.tolist(), chances.tolist(), strict=True):
        worth = {other: exp((scores[other] - max(scores[left])) / t) if t else 1.0 for other in left}
        assert chance == pytest.approx(worth[item] / sum(worth.values()), rel=EXACT)
        left.remove(item)


def test_a_low_temperature_is_the_order_by_score():
    scores = np.array([0.3, 0.9, 0.5])
    for seed in range(20):
        order, chances = sampled(scores, 1e-3, np.random.default_rng(seed))
        assert order.tolist() == [1, 2, 0]
        assert chances == pytest.approx(1.0)


def test_lists_are_taken_by_turns():
    lists = [np.array([4, 1, 2]), np.array([1, 7]), np.array([], dtype=np.int32), np.array([9])]
    assert interleaved(lists).tolist() == [4, 1, 9, 7, 2]
    assert interleaved([]).tolist() == []


def test_scores_of_models_become_comparable():
    assert standardised(np.array([1.0, 2.0, 3.0])) == pytest.approx([-1.2247449, 0, 1.2247449])
    assert standardised(np.array([5.0, 5.0])).tolist() == [0, 0]


def test_likeness_by_groups_and_by_vectors():
    groups = [frozenset("ab"), frozenset("bc"), frozenset(), frozenset("ab")]
    expected = [[1, 1 / 3, 0, 1], [1 / 3, 1, 0, 1 / 3], [0, 0, 0, 0], [1, 1 / 3, 0, 1]]
    np.testing.assert_allclose(shared_groups(groups), expected)
    vectors = np.array([[1.0, 0.0], [1.0, 1.0], [-1.0, 0.0], [0.0, 0.0]])
    half = 2**-0.5
    expected = [[1, half, 0, 0], [half, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 0]]
    # both in 64 bits, and no sum of more than a few products
    np.testing.assert_allclose(cosines_within(vectors), expected, atol=1e-12)


ROWS = st.lists(st.tuples(st.integers(-1, 3), st.integers(0, 2), st.integers(0, 400)), min_size=1, max_size=40)


@given(ROWS, ROWS, st.sampled_from([1.0, 7.5, 90.0]), st.sampled_from([None, (0,), (1, 2)]))
def test_windows_count_back_from_the_newest_row_of_either_part(past, live, days, kinds):
    def part(rows):
        columns = np.array(rows, dtype=np.int64).T
        return TimedRows.of(columns[0].astype(np.int32), columns[1].astype(np.int16), columns[2] * (DAY_US // 2))

    wanted = None if kinds is None else np.array(kinds)
    rows = [(item, kind, at / 2) for item, kind, at in past + live if item >= 0 and (kinds is None or kind in kinds)]
    last = max(at for _, _, at in past + live) / 2
    recent = [sum(1 for item, _, at in rows if item == one and last - days <= at) for one in range(4)]
    assert popular_within([part(past), part(live)], 4, wanted, days).tolist() == recent
    usual = [
        sum(1 for item, _, at in rows if item == one and last - days - 100 <= at < last - days) for one in range(4)
    ]
    expected = [each / max(sum(usual), 1) * sum(recent) for each in usual]
    actual = trending_within([part(past), part(live)], 4, wanted, days, 100)
    assert actual == pytest.approx([(r - e) / (e + 1) ** 0.5 for r, e in zip(recent, expected, strict=True)])


def test_rows_are_counted_by_the_items_of_another_map():
    rows = TimedRows.of(np.array([0, 1, 1, 2], np.int32), np.zeros(4, np.int16), np.arange(4) * DAY_US)
    mapped = MappedRows(rows, np.array([3, -1, 0]))
    assert (mapped.last, mapped.counts(4, None, 0, 9 * DAY_US).tolist()) == (3 * DAY_US, [1, 0, 0, 1])
    assert popular_within([mapped, rows], 4, None, 2).tolist() == [1, 2, 1, 0]
