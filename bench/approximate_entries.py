"""Lists by a vector index beside exact ones: what they take, and how much of the exact ones they find."""

from __future__ import annotations

import time

import numpy as np

from bench.measure import Result, measure
from bench.products import RANK
from bench.worlds import World
from gleaner.core.data.ties import tie_order
from gleaner.core.models.implicit.als import Als
from gleaner.core.ranking.approximate import ApproximateIndex
from gleaner.core.ranking.factor_index import FactorIndex

TOP, USERS, TURNS = 10, 1000, 3


def one_list(world: World) -> Result:
    """Seconds of one user's top 10 from the graph, beside the exact walk over the same items."""
    model = Als(rank=RANK, iterations=2).fit(world.train)
    factors = model.factors()
    exact = FactorIndex.of(factors.items, tie_order(world.train.items))
    begun = time.perf_counter()
    index = ApproximateIndex.of(exact, 400)
    built = time.perf_counter() - begun
    users = factors.users[np.random.default_rng(2).permutation(len(factors.users))[:USERS]]
    took, peer, peak = measure(
        lambda: [index.best(u, TOP) for u in users], lambda: [exact.best(u, TOP) for u in users], TURNS
    )
    result = index.recall(users, TOP)
    note = f"{len(factors.items):,} items, rank {RANK}: recall {result.mean:.4f}, least {result.least:.1f}; "
    note += f"built in {built:.0f} s"
    return Result("one list, approximate", took / USERS, peak, "the exact walk", peer / USERS, note)
