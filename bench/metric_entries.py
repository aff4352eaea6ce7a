"""Metrics beside what they stand on: lists, places and figures beside the bare product, the bootstrap alone."""

from __future__ import annotations

import numpy as np

from bench.measure import Bar, Result, measure
from bench.products import PRODUCT, RANK, bare_product
from bench.worlds import World
from gleaner.core.data.ties import tie_order
from gleaner.core.metrics.catalogue import ORDER, RANKING, labels
from gleaner.core.metrics.evaluation import RankPlan, figures_of
from gleaner.core.metrics.exposure import ShownLists
from gleaner.core.metrics.statistics import intervals
from gleaner.core.models.implicit.als import Als
from gleaner.core.ranking.topn import Pairs, top_n
from gleaner.core.splits.truth import Truth

AT = [5, 10, 20, 50, 100]
HELD = 10
TURNS = 3
BOOTSTRAP_S = 5.0
PLAN = RankPlan([*RANKING, *ORDER], AT, 1)


def ranking_figures(world: World) -> Result:
    """Lists of 100, the places of ten held-out items of each user, every ranking metric at five cut-offs."""
    model = Als(rank=RANK, iterations=2).fit(world.train)
    order, truth = tie_order(world.train.items), _held(world)
    users, pairs = truth.user_rows, Pairs(truth.indptr, truth.indices)

    def work() -> None:
        lists = top_n(model, users, max(AT), order, exclude=world.train, places_of=pairs)
        shown = ShownLists(lists.items, users, world.train, world.train)
        figures_of(shown, truth, PLAN, lists.ranks, sure=False)

    top_n(model, users[:64], 10, order, exclude=world.train, places_of=Pairs(truth.indptr[:65], truth.indices))
    seconds, peer, peak = measure(work, lambda: bare_product(model), TURNS)
    note = f"{len(PLAN.metrics)} metrics at {len(AT)} cut-offs, {len(truth.indices):,} held-out items, lists included"
    return Result("every ranking metric", seconds, peak, PRODUCT, peer, note, Bar(2.5))


def bootstrap(world: World) -> Result:
    """Intervals of every ranking metric over every user, beside the matrix product of counts and figures alone."""
    n = world.train.shape[0]
    table = np.random.default_rng(1).random((n, len(labels(PLAN.metrics, AT))))
    times = np.ones((1000, n))
    seconds, peer, peak = measure(lambda: intervals(table, 1), lambda: times @ table, TURNS)
    note = f"{table.shape[1]} figures of {n:,} users, 1,000 resamples"
    return Result("bootstrap of them", seconds, peak, "the product in it", peer, note, Bar(seconds=BOOTSTRAP_S))


def _held(world: World) -> Truth:
    """Ten items of each user that training does not have, or as many as there are, drawn at random."""
    random = np.random.default_rng(2)
    n_users, n_items = world.train.shape
    drawn = random.integers(0, n_items, (n_users, HELD))
    cells = np.unique(np.repeat(np.arange(n_users), HELD) * n_items + drawn.ravel())
    known = world.train.user_rows.astype(np.int64) * n_items + world.train.indices
    cells = cells[~np.isin(cells, known)]
    rows, counts = np.unique(cells // n_items, return_counts=True)
    indptr = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    return Truth(rows.astype(np.int32), indptr, (cells % n_items).astype(np.int32), 0, 0, 0)
