"""Searching parameters: the space, proposals, pruning and the importance of parameters."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.errors import ParameterError
from gleaner.core.tuning.attempts import TunedTrial
from gleaner.core.tuning.importance import main_effects
from gleaner.core.tuning.search import Search
from gleaner.core.tuning.space import settled, space_of

ALS = {
    "rank": {"choose": [8, 16, 32]},
    "regularisation": {"between": [0.001, 1.0], "log": True},
    "cg_steps": {"between": [2, 7], "step": 2},
    "iterations": 5,
}
METHODS = ["bayesian", "random", "quasi_random"]


def loss(chosen) -> float:
    """Least at regularisation 0.05 and rank 16, the first mattering most."""
    return abs(math.log(chosen["regularisation"] / 0.05)) + abs(chosen["rank"] - 16) / 100


def searched(method: str, n: int, *, cut: int | None = None) -> list[dict]:
    """The settings a search tried; after `cut` attempts it is begun again from those."""
    space = space_of("als", ALS)
    search, attempts = Search(space, method, n, seed=3, sign=-1), []
    while (chosen := search.propose()) is not None:
        attempts.append(TunedTrial(chosen, "done", loss(chosen)))
        search.report_progress(attempts[-1])
        if len(attempts) == cut:
            search = Search(space, method, n, seed=3, sign=-1)
            for each in attempts:
                search.add(each)
    return [each.chosen for each in attempts]


@pytest.mark.parametrize("method", METHODS)
def test_a_search_tries_what_is_in_its_ranges_and_nothing_twice(method):
    tried = searched(method, 25)
    assert len(tried) == 25
    assert len({str(each) for each in tried}) == 25
    for each in tried:
        assert each["rank"] in (8, 16, 32)
        assert 0.001 <= each["regularisation"] <= 1
        assert each["cg_steps"] in (2, 4, 6)
        assert set(each) == {"rank", "regularisation", "cg_steps"}


@pytest.mark.parametrize("method", METHODS)
def test_a_search_taken_up_again_goes_on_as_it_would_have(method):
    assert searched(method, 16, cut=7) == searched(method, 16)


def test_a_bayesian_search_comes_nearer_than_chance():
    best = {method: min(loss(each) for each in searched(method, 40)) for method in METHODS}
    later = [loss(each) for each in searched("bayesian", 40)[20:]]
    assert best["bayesian"] < 0.1
    assert np.median(later) < 0.5 * np.median([loss(each) for each in searched("random", 40)])


def test_a_grid_tries_every_setting_once():
    space = space_of("als", {"rank": {"choose": [8, 16]}, "cg_steps": {"between": [1, 3]}})
    search, seen = Search(space, "grid", 100, 1, 1), []
    while (chosen := search.propose()) is not None:
        seen.append((chosen["rank"], chosen["cg_steps"]))
        search.report_progress(TunedTrial(chosen, "done", 1.0))
    assert sorted(seen) == [(rank, steps) for rank in (8, 16) for steps in (1, 2, 3)]
    assert space.size == 6


def test_a_small_space_ends_when_all_was_tried():
    space = space_of("als", {"rank": {"choose": [8, 16, 24]}})
    for method in METHODS:
        search, n = Search(space, method, 50, 1, 1), 0
        while (chosen := search.propose()) is not None:
            search.report_progress(TunedTrial(chosen, "done" if n else "failed", 1.0 if n else None))
            n += 1
        assert n == 3


def test_an_attempt_below_the_others_is_hopeless():
    space = space_of("als", ALS)
    search = Search(space, "random", 20, 1, 1)
    for _ in range(6):
        chosen = search.propose()
        assert not search.hopeless(3, 0.5)
        search.report_progress(TunedTrial(chosen, "done", 0.6, {3: 0.5}))
    search.propose()
    assert search.hopeless(3, 0.1)
    search.report_progress(TunedTrial({"rank": 8}, "pruned", 0.1, {3: 0.1}))
    search.propose()
    assert not search.hopeless(3, 0.7)


def test_what_mattered_is_told():
    space = space_of("als", ALS)
    search = Search(space, "random", 60, 1, -1)
    assert search.effects() == {}
    while (chosen := search.propose()) is not None:
        search.report_progress(TunedTrial(chosen, "done", loss(chosen)))
    actual = search.effects()
    assert next(iter(actual)) == "regularisation"
    assert actual["regularisation"].share > 0.5
    for effect in actual.values():
        assert 0 <= effect.low <= effect.share <= effect.high <= 1


def analysis_of_variance(rows: list[tuple[int, int]], values: np.ndarray) -> list[float]:
    """Main effects of a balanced grid of two factors, omega squared, from sums over group means."""
    total = ((values - values.mean()) ** 2).sum()
    sums, groups = [], []
    for factor in (0, 1):
        levels = sorted({row[factor] for row in rows})
        means = [np.mean([v for row, v in zip(rows, values, strict=True) if row[factor] == level]) for level in levels]
        sums.append(len(rows) / len(levels) * sum((mean - values.mean()) ** 2 for mean in means))
        groups.append(len(levels) - 1)
    noise = (total - sum(sums)) / (len(rows) - 1 - sum(groups))
    return [max(0.0, (each - n * noise) / (total + noise)) for each, n in zip(sums, groups, strict=True)]


def test_on_a_full_grid_effects_are_the_analysis_of_variance():
    space = space_of("als", {"rank": {"choose": [8, 16, 24]}, "cg_steps": {"choose": [1, 2, 3, 4, 5, 6, 7, 8]}})
    rows = [(rank, steps) for rank in (8, 16, 24) for steps in range(1, 9)]
    noise = np.random.default_rng(4).normal(0, 0.02, len(rows))
    values = np.array([0.010 * rank + 0.02 * steps for rank, steps in rows]) + noise
    settings = [{"rank": rank, "cg_steps": steps} for rank, steps in rows]
    # 36 attempts for the nine columns of ten choices: each setting once more
    actual = main_effects(settings * 2, np.concatenate([values, values]), space.ranges, 1)
    expected = analysis_of_variance(rows * 2, np.concatenate([values, values]))
    assert [actual["rank"].share, actual["cg_steps"].share] == pytest.approx(expected)
    assert sum(expected) > 0.8
    assert main_effects(settings, values, space.ranges, 1) == {}
    assert main_effects(settings * 2, np.ones(len(rows) * 2), space.ranges, 1) == {}


def test_a_parameter_without_effect_has_an_interval_at_nothing():
    random = np.random.default_rng(7)
    space = space_of("als", {"rank": {"between": [4, 64]}, "regularisation": {"between": [0.01, 1.0]}})
    settings = [
        {"rank": int(random.integers(4, 65)), "regularisation": float(random.uniform(0.01, 1))} for _ in range(60)
    ]
    values = np.array([each["rank"] for each in settings]) / 64 + random.normal(0, 0.01, 60)
    effects = main_effects(settings, values, space.ranges, 1)
    assert effects["rank"].low > 0.6
    assert effects["regularisation"].share < 0.05
    assert effects["regularisation"].low == 0


@given(
    low=st.integers(1, 50),
    width=st.integers(1, 200),
    log=st.booleans(),
    place=st.floats(0, 1, exclude_max=True),
)
def test_every_point_of_the_unit_cube_is_within_the_range(low, width, log, place):
    space = space_of("als", {"rank": {"between": [low, low + width], "log": log}})
    chosen = space.at(np.array([place]))["rank"]
    assert isinstance(chosen, int)
    assert low <= chosen <= low + width


def test_both_ends_of_a_whole_range_come_as_often_as_the_middle():
    space = space_of("als", {"cg_steps": {"between": [1, 4]}})
    drawn = [space.at(np.array([(place + 0.5) / 400]))["cg_steps"] for place in range(400)]
    assert [drawn.count(value) for value in (1, 2, 3, 4)] == [100, 100, 100, 100]


def test_the_middle_of_the_ranges_can_be_built():
    assert settled("als", ALS)["rank"] == 16
    assert settled("als", {"rank": 7}) == {"rank": 7}


@pytest.mark.parametrize(
    ("params", "where", "says"),
    [
        ({"rankk": {"choose": [1]}}, "rankk", "als has no parameter 'rankk'"),
        ({"rank": {"choose": []}}, "rank", "choose must be a list of values"),
        ({"rank": {"choose": [8], "log": True}}, "rank", "nothing else goes with it"),
        ({"rank": {"between": [8]}}, "rank", "between must be [low, high], not [8]"),
        ({"rank": {"between": [8, 8]}}, "rank", "8 is not below 8"),
        ({"rank": {"between": [8, 9.5]}}, "rank", "rank is a whole number, and so must its range be"),
        ({"rank": {"between": [0, 9]}}, "rank", "rank must be a whole number of at least 1"),
        ({"rank": {"choose": [8, 0]}}, "rank", "rank must be a whole number of at least 1"),
        ({"regularisation": {"between": [0, 1], "log": True}}, "regularisation", "must begin above 0"),
        ({"regularisation": {"between": [0, 1], "step": -1}}, "regularisation", "step must be a number above 0"),
        ({"regularisation": {"between": [0, 1], "steps": 1}}, "regularisation", "a range has no 'steps'"),
        ({"regularisation": {"between": [0, 1], "log": "yes"}}, "regularisation", "log must be true or false"),
        ({"weighting": {"between": [0, 1]}}, "weighting", "weighting is not a number: name its values with `choose`"),
        ({"weighting": {"choose": ["log", "most"]}}, "weighting", "weighting must be one of"),
    ],
)
def test_ranges_that_cannot_be_are_refused_by_name(params, where, says):
    with pytest.raises(ParameterError) as caught:
        space_of("als", params)
    assert caught.value.where == where
    assert says in str(caught.value)


def test_a_grid_needs_steps():
    with pytest.raises(ParameterError, match="give regularisation a `step`"):
        space_of("als", ALS).grid()
    with pytest.raises(ParameterError, match="settings, more than 100,000"):
        space_of("als", {"rank": {"between": [1, 4000]}, "iterations": {"between": [1, 1000]}}).grid()
