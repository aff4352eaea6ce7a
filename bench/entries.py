"""What is measured. Every entry runs its work and a peer in the same process, in turns, and keeps the best of each."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from bench import model_entries, service_entries
from bench.data_entries import import_rows, prepare_and_split
from bench.measure import Bar, Result, measure
from bench.worlds import World, world_of
from gleaner.core.models.als import Als
from gleaner.core.parallel import default_threads, even_ranges, run_ranges
from gleaner.core.ranking.ties import tie_order
from gleaner.core.ranking.topn import BLOCK_SCORES, top_n

RANK = 64
TOP = 100
TURNS = 3


def top_lists(world: World) -> Result:
    """The top 100 of every user, training items excluded, beside the bare product of the factors."""
    model = Als(rank=RANK, iterations=2).fit(world.train)
    order = tie_order(world.train.items)
    users = np.arange(world.train.shape[0], dtype=np.int32)
    top_n(model, users[:64], TOP, order, exclude=world.train)
    work, peer, peak = measure(
        lambda: top_n(model, users, TOP, order, exclude=world.train), lambda: _bare_product(model), TURNS
    )
    return Result(
        f"top-{TOP} for all users", work, peak, PRODUCT, peer, f"rank {RANK}, training items excluded", Bar(2.0)
    )


PRODUCT = "bare matrix product"


def _bare_product(model: Als) -> None:
    """Every user times every item in the same blocks on the same threads, the scores thrown away."""
    X, Y = model.user_factors_, model.item_factors_
    block = max(1, min(1024, BLOCK_SCORES // len(Y), -(-len(X) // default_threads())))

    def work(lo: int, hi: int) -> None:
        X[lo:hi] @ Y.T

    run_ranges(work, even_ranges(len(X), block))


ENTRIES: dict[str, Callable[[str], Result]] = {
    "import": import_rows,
    "split": prepare_and_split,
    **model_entries.ENTRIES,
    "top": lambda size: top_lists(world_of(size)),
    "service": service_entries.one_list,
}
