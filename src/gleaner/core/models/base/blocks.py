"""Gradient steps on many threads that give the same model on any number of them.

Users are cut into BLOCKS ranges of about equal work. Items are dealt into BLOCKS blocks, afresh in every epoch. In
turn t the user range a meets the item block (a + t) mod BLOCKS: no two tasks of a turn share a user or an item, so
they run side by side without touching each other's factors, and the result does not depend on their order (Gemulla,
Nijkamp, Haas, Sismanis 2011).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.watching import Watch
from gleaner.core.parallel import balanced_ranges, run_ranges

BLOCKS = 8
SMALL = 300_000
"""Below so many cells handing out tasks would cost more than it saves; the model is the same."""
Task = Callable[[int, int, np.ndarray, np.ndarray, int], float]
"""work(lo, hi, block_of, items_of_block, block): steps for users lo to hi and the items of one block; answers a
loss."""


def deal(counts: np.ndarray, seed: int, epoch: int) -> tuple[np.ndarray, list[np.ndarray]]:
    """The block of every item, int8 (n_items,), and the items of each block, int32, dealt by seed and epoch. counts:
    how many users have each; an item that nobody has is in no block, -1, for nobody passed it over."""
    met = np.flatnonzero(counts).astype(np.int32)
    blocks = max(1, min(BLOCKS, len(met) // 4))
    order = met[np.random.Generator(np.random.PCG64([seed, epoch])).permutation(len(met))]
    block_of = np.full(len(counts), -1, dtype=np.int8)
    block_of[order] = np.arange(len(met)) % blocks
    return block_of, [np.sort(order[block::blocks]) for block in range(blocks)]


def run_epoch(
    train: InteractionMatrix,
    seed: int,
    epoch: int,
    of: int,
    work: Task,
    watch: Watch,
    *,
    stretches: int = 1,
    after_stretch: Callable[[], None] | None = None,
) -> float:
    """One epoch over all cells; answers the sum of the losses. stretches: into how many parts the users of a turn are
    cut. after_stretch: called when all tasks of a part are done, with no other at work."""
    block_of, items = deal(train.item_counts, seed, epoch)
    ranges = balanced_ranges(train.indptr, BLOCKS)
    parts = [_cut(train.indptr, bounds, stretches) for bounds in ranges]
    losses = np.zeros((BLOCKS, len(ranges)))
    turns = max(len(items), len(ranges))
    for turn, stretch in itertools.product(range(turns), range(stretches)):

        def task(lo: int, hi: int, turn: int = turn, stretch: int = stretch) -> None:
            for place in range(lo, hi):
                block = (place + turn) % turns
                if block < len(items) and stretch < len(parts[place]):
                    losses[block, place] += work(*parts[place][stretch], block_of, items[block], block)

        start = (epoch - 1 + (turn + stretch / stretches) / turns) / of
        if train.n_cells < SMALL:
            task(0, len(ranges))
            watch.report_progress(start, epoch)
        else:
            run_ranges(
                task, [(place, place + 1) for place in range(len(ranges))], progress=watch.part(start, start, epoch)
            )
        if after_stretch is not None:
            after_stretch()
    return float(losses.sum())


def _cut(indptr: np.ndarray, bounds: tuple[int, int], stretches: int) -> list[tuple[int, int]]:
    lo, hi = bounds
    return [(lo + first, lo + last) for first, last in balanced_ranges(indptr[lo : hi + 1], stretches)]
