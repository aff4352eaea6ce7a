"""What is measured. Every entry runs its work and a peer in the same process, in turns, and keeps the best of each."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from bench import (
    approximate_entries,
    catalogue_entries,
    condition_entries,
    event_entries,
    export_entries,
    machine_entries,
    metric_entries,
    model_entries,
    network_entries,
    service_entries,
)
from bench.data_entries import import_rows, prepare_and_split
from bench.measure import Bar, Result, measure
from bench.products import PRODUCT, RANK, bare_product
from bench.worlds import World, world_of
from gleaner.core.data.ties import tie_order
from gleaner.core.models.implicit.als import Als
from gleaner.core.ranking.topn import top_n

TOP = 100
TURNS = 3


def top_lists(world: World) -> Result:
    """The top 100 of every user, training items excluded, beside the bare product of the factors."""
    model = Als(rank=RANK, iterations=2).fit(world.train)
    order = tie_order(world.train.items)
    users = np.arange(world.train.shape[0], dtype=np.int32)
    top_n(model, users[:64], TOP, order, exclude=world.train)
    work, peer, peak = measure(
        lambda: top_n(model, users, TOP, order, exclude=world.train), lambda: bare_product(model), TURNS
    )
    return Result(
        f"top-{TOP} for all users", work, peak, PRODUCT, peer, f"rank {RANK}, training items excluded", Bar(2.0)
    )


ENTRIES: dict[str, Callable[[str], Result]] = {
    "import": import_rows,
    "split": prepare_and_split,
    **model_entries.ENTRIES,
    **machine_entries.ENTRIES,
    **network_entries.ENTRIES,
    "top": lambda size: top_lists(world_of(size)),
    "export": lambda size: export_entries.top_items(world_of(size)),
    "metrics": lambda size: metric_entries.ranking_figures(world_of(size)),
    "bootstrap": lambda size: metric_entries.bootstrap(world_of(size)),
    "service": service_entries.one_list,
    "approximate": lambda size: approximate_entries.one_list(world_of(size)),
    "together": catalogue_entries.together,
    "condition": condition_entries.worst,
    "events": event_entries.events,
}
