"""The progress of a contest is divided by what its contenders are expected to take."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest

from gleaner.core.contests.contest import Contest
from gleaner.core.contests.engine import run_contest
from gleaner.core.contests.listening import QuietListener
from gleaner.core.contests.parts import divide
from gleaner.core.contests.plan import Contender, ContestPlan
from gleaner.core.contests.side_tables import SideTables, TableFrames
from gleaner.core.data.rows import InteractionRows
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split


@pytest.mark.parametrize(
    ("expected", "first"),
    [({"popular": 1.0, "als": 3.0}, 0.25), ({"popular": 9.0, "als": 1.0}, 0.9), ({"popular": 1.0}, None), ({}, None)],
)
def test_a_contender_begins_where_those_before_it_were_expected_to_end(expected, first):
    draw = np.random.default_rng(5)
    frame = pl.DataFrame({"user": [f"u{n}" for n in draw.integers(0, 40, 900)],
                          "item": [f"i{n}" for n in draw.integers(0, 30, 900)]})  # fmt: skip
    rows = InteractionRows.from_arrow(frame.to_arrow())
    parts = divide(rows, Preparation(), Split(by="rows"), lambda done, text: None)
    plan = ContestPlan([Contender("popular", "popular"), Contender("als", "als", {"rank": 4})], ["ndcg"], [5],
                       MetricReference.parse("ndcg@5"))  # fmt: skip
    said: list[tuple[float, str]] = []
    listener = QuietListener(lambda done, text: said.append((done, text)) or True)
    run_contest(Contest.of(plan, parts, SideTables(lambda: TableFrames(None, None)), listener), 0.0, 1.0, expected)
    shares = [done for done, _ in said]
    assert shares == sorted(shares)
    begun = min(done for done, text in said if text.startswith("als"))
    if first is not None:
        assert begun == pytest.approx(first, abs=0.02)
    else:
        # by the count of operations als takes nearly all
        assert begun < 0.5
