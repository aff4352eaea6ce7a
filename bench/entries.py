"""What is measured. Every entry runs its work and a peer in the same process, in turns, and keeps the best of each."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from bench.worlds import World
from gleaner.core.models.als import Als
from gleaner.core.parallel import default_threads, even_ranges, run_ranges
from gleaner.core.ranking.ties import tie_order
from gleaner.core.ranking.topn import BLOCK_SCORES, top_n
from gleaner.jobs.memory import PeakMemory

RANK = 64
TOP = 100
TURNS = 3


@dataclass(frozen=True)
class Result:
    """Seconds and peak memory of the work, seconds of its peer."""

    entry: str
    seconds: float
    peak_mb: float
    peer: str
    peer_seconds: float
    note: str

    @property
    def ratio(self) -> float:
        """How many times its peer the work takes."""
        return self.seconds / self.peer_seconds


def als_iteration(world: World) -> Result:
    """One full iteration of weighted ALS at rank 64, beside the bare product of the factors."""
    model = Als(rank=RANK, iterations=1)
    model.fit(world.train)
    work, peer, peak = _measure(lambda: model.fit(world.train), lambda: _bare_product(model))
    cells, (n_users, n_items) = world.train.n_cells, world.train.shape
    flops = (model.cg_steps + 1) * (2 * 4 * RANK * cells + 2 * RANK * RANK * (n_users + n_items))
    note = f"rank {RANK}, {cells:,} cells, {flops / work / 1e9:.1f} GFLOP/s; set-up of a fit included"
    return Result("ALS iteration", work, peak, PRODUCT, peer, note)


def top_lists(world: World) -> Result:
    """The top 100 of every user, training items excluded, beside the bare product of the factors."""
    model = Als(rank=RANK, iterations=2).fit(world.train)
    order = tie_order(world.train.items)
    users = np.arange(world.train.shape[0], dtype=np.int32)
    top_n(model, users[:64], TOP, order, exclude=world.train)
    work, peer, peak = _measure(
        lambda: top_n(model, users, TOP, order, exclude=world.train), lambda: _bare_product(model)
    )
    return Result(f"top-{TOP} for all users", work, peak, PRODUCT, peer, f"rank {RANK}, training items excluded")


PRODUCT = "bare matrix product"


def _bare_product(model: Als) -> None:
    """Every user times every item in the same blocks on the same threads, the scores thrown away."""
    X, Y = model.user_factors_, model.item_factors_
    block = max(1, min(1024, BLOCK_SCORES // len(Y), -(-len(X) // default_threads())))

    def work(lo: int, hi: int) -> None:
        X[lo:hi] @ Y.T

    run_ranges(work, even_ranges(len(X), block))


def _measure(work: Callable[[], object], peer: Callable[[], object]) -> tuple[float, float, float]:
    """Best seconds of the work, best seconds of the peer, peak MB of the work."""
    best = [float("inf"), float("inf")]
    peak = 0.0
    for _ in range(TURNS):
        memory = PeakMemory()
        best[0] = min(best[0], _seconds(work))
        peak = max(peak, memory.megabytes())
        best[1] = min(best[1], _seconds(peer))
    return best[0], best[1], peak


def _seconds(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


ENTRIES: dict[str, Callable[[World], Result]] = {"als": als_iteration, "top": top_lists}
