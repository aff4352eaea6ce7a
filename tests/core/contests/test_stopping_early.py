"""Contenders that find on validation how many iterations they take."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import polars as pl
import pytest

from gleaner.core.contests.contest import Contest
from gleaner.core.contests.engine import run_contest
from gleaner.core.contests.listening import QuietListener
from gleaner.core.contests.parts import divide
from gleaner.core.contests.plan import Contender, ContestPlan, SearchPlan
from gleaner.core.contests.side_tables import SideTables, TableFrames
from gleaner.core.data.rows import InteractionRows
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split

ITEMS = pl.DataFrame({"id": [f"i{n}" for n in range(24)], "kind": [("pea", "bean", "beet")[n % 3] for n in range(24)]})
NETWORK = {"rank": 4, "batch": 16, "learning_rate": 0.02}


@dataclass(eq=False)
class Told(QuietListener):
    """Remembers every round by contender and goal."""

    rounds: dict[tuple[str, str], list] = field(default_factory=dict)

    def end_round(self, label, goal, done):
        self.rounds.setdefault((label, goal), []).append(done)


@pytest.fixture(scope="module")
def run():
    """Users of three tastes; a network, the same without columns, and one that is tuned."""
    random = np.random.default_rng(5)
    users = np.repeat(np.arange(60), 12)
    items = (users % 3 + 3 * random.integers(0, 8, len(users))) % 24
    at = np.datetime64("2026-01-01", "us") + random.permutation(len(users)).astype("timedelta64[h]")
    frame = pl.DataFrame({"user": [f"u{n}" for n in users], "item": [f"i{n}" for n in items], "time": at})
    parts = divide(InteractionRows.from_arrow(frame.to_arrow()), Preparation(), Split(test=0.2, validation=0.2, by="rows"),
                   lambda done, message: None)  # fmt: skip
    whole = {**NETWORK, "iterations": 30, "patience": 2}
    contenders = [
        Contender("popular", "popular"),
        Contender("towers", "two_towers", whole),
        Contender("bare", "two_towers", whole, ablates="towers", lacks="features"),
        Contender("tuned", "denoising_autoencoder", {"rank": {"choose": [2, 4]}, "iterations": 12, "patience": 2},
                  search=SearchPlan(method="grid", attempts=2)),
    ]  # fmt: skip
    plan = ContestPlan(contenders, ["ndcg"], [5], MetricReference.parse("ndcg@5"))
    listener = Told()
    tables = SideTables(lambda: TableFrames(ITEMS, None))
    run_contest(Contest.of(plan, parts, tables, listener))
    return listener, {each.contender.label: each for each in listener.results}


def best_of(rounds) -> int:
    return max(rounds, key=lambda each: (each.metrics["ndcg@5"], -each.iteration)).iteration


@pytest.mark.parametrize("label", ["towers", "bare", "tuned"])
def test_fits_without_a_judge_take_as_many_iterations_as_validation_found_best(run, label):
    listener, results = run
    judged, test = listener.rounds[label, "validation"], listener.rounds[label, "test"]
    assert len(test) == results[label].model.iterations == best_of(judged)
    assert not any(each.metrics for each in test)


def test_learning_stops_after_so_many_rounds_without_a_better_one(run):
    judged = run[0].rounds["towers", "validation"]
    assert best_of(judged) + 2 == len(judged) < 30


def test_what_lacks_a_part_finds_its_own_number(run):
    listener, results = run
    assert results["bare"].columns["item_columns"] == []
    # it may go on beyond what the whole found best: as far as its own rounds grow better
    bare = listener.rounds["bare", "validation"]
    assert len(bare) == min(30, best_of(bare) + 2)


def test_every_epoch_is_judged_by_what_its_lists_hit_as_well(run):
    for each in run[0].rounds["towers", "validation"]:
        assert set(each.metrics) == {"ndcg@5", "recall@5", "precision@5", "hit@5"}
        assert set(each.losses) == {"training", "validation"}
