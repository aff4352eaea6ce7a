"""What items have in common, against counts by hand."""

from __future__ import annotations

from math import sqrt

import numpy as np
import polars as pl
import pytest

from gleaner.core.explain.traits import TraitTable

N = 400
ROWS = np.arange(40)


@pytest.fixture(scope="module")
def columns():
    """The first forty are peas more often than the others, heavier, and as often red."""
    return pl.DataFrame(
        {
            "family": ["pea" if row < 30 or row % 4 == 0 else "bean" for row in range(N)],
            "colour": ["red" if row % 2 else None for row in range(N)],
            "marks": [["hardy", "early"] if row < 25 else ["late"] for row in range(N)],
            "weight": [None if row == 3 else float(N - row) for row in range(N)],
            "name": [f"n{row}" for row in range(N)],
            "since": pl.Series(range(N), dtype=pl.Int32).cast(pl.Date),
        }
    )


def test_values_stand_out_by_how_far_they_are_from_a_random_draw(columns):
    traits = {each.column: each for each in TraitTable(columns).of(ROWS)}
    assert set(traits) == {"family", "marks", "weight"}
    of_all, here = columns["family"].eq("pea").sum(), columns["family"][:40].eq("pea").sum()
    share, m = of_all / N, len(ROWS)
    pea = traits["family"]
    assert (pea.value, pea.here, pea.overall) == ("pea", here / m, share)
    spread = sqrt(m * share * (1 - share) * (N - m) / (N - 1))
    assert pea.sureness == pytest.approx((here - m * share) / spread)
    # both marks are had by the same items; the first in order stands for them
    assert (traits["marks"].value, traits["marks"].here, traits["marks"].overall) == ("early", 25 / 40, 25 / N)


def test_numbers_stand_out_by_rank(columns):
    weight = next(each for each in TraitTable(columns).of(ROWS) if each.column == "weight")
    known = [float(N - row) for row in range(N) if row != 3]
    mine = [float(N - row) for row in range(40) if row != 3]
    assert (weight.value, weight.here, weight.overall) == (None, np.median(mine), np.median(known))
    ranks = [sorted(known).index(value) + 1 for value in mine]
    n, m = len(known), len(mine)
    spread = sqrt((n + 1) * (n - m) / (12 * m))
    assert weight.sureness == pytest.approx(abs(np.mean(ranks) - (n + 1) / 2) / spread)


def test_the_surest_come_first_and_only_so_many(columns):
    table = TraitTable(columns)
    surest = [each.sureness for each in table.of(ROWS)]
    assert surest == sorted(surest, reverse=True)
    assert table.of_ends(ROWS, np.arange(300, 340), 1)[0] == table.of(ROWS)[:1]


def test_what_both_ends_have_alike_tells_neither_from_the_other(columns):
    table = TraitTable(columns)
    assert table.of_ends(ROWS, ROWS, 9) == ([], [])
    # the last ones are lighter, the first ones heavier: that tells them apart
    high, low = table.of_ends(ROWS, np.arange(360, 400), 9)
    assert [(each.column, each.here > each.overall) for each in low] == [("weight", False)]
    assert "weight" in {each.column for each in high}


def test_a_random_group_has_nothing_in_common(columns):
    table, random = TraitTable(columns), np.random.default_rng(0)
    groups = [table.of(random.choice(N, 40, replace=False)) for _ in range(50)]
    assert groups == [[]] * 50


def test_items_without_columns_have_no_traits():
    assert TraitTable(pl.DataFrame({"empty": [None, None]}, schema={"empty": pl.String})).of(np.array([0])) == []
    assert TraitTable(pl.DataFrame({"same": ["a", "a"]})).of(np.array([0, 1])) == []
