"""Items arranged so that one user's best are found without scoring them all, and are the same.

Sources: stopping by norms and bounds in parts, Teflioudi, Gemulla, Mykytiuk 2015; turning the factors so that the
first directions carry most of the product, and whole numbers for the first pass, Li, Chan, Yiu, Mamoulis 2017. The pass
is in whole numbers on both sides: items to eight bits when the index is made, a user to eight bits in every stretch of
blocks.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from gleaner.core.errors import require_range
from gleaner.core.kernels.bounded import STRETCH, ZERO, best_items, best_items_of_several
from gleaner.core.kernels.quads import BLOCK
from gleaner.core.parallel import default_threads, even_ranges, run_ranges
from gleaner.core.ranking.batching import Batcher
from gleaner.core.ranking.topn import Lists

HEAD = 16
"""Directions in the first, cheap part of the product."""

STEPS = 127
"""Steps from zero to the largest component of a direction in a stretch, so that a code fits eight bits."""

GATHERED_BLOCKS = 800
"""Blocks from which a walk takes long enough to be shared: some 200,000 items."""

GATHER_S = 0.0015
"""How long one who asks waits for others to join: less than a tenth of what a walk for eight takes then."""

EVERY, NONE, NO_MASK = np.empty(0, np.uint8), np.empty(0, np.int32), np.empty((0, 0), np.uint8)


class ListQuery(NamedTuple):
    """A list that is asked for: the n best for a user's factors, float32 (n_factors,), of what a mask allows, bool
    (n_items,), less some rising item rows."""

    user: np.ndarray
    n: int
    allowed: np.ndarray | None = None
    left_out: np.ndarray | None = None


@dataclass(frozen=True, eq=False)
class FactorIndex:
    """Item factors turned to their principal axes, ordered by falling norm, in blocks, to eight bits a component.

    Memory beside the factors themselves: a byte an item and factor, and eight bytes an item. Making it costs one
    product of the factors with a square matrix of the rank.
    """

    factors: np.ndarray
    ties: np.ndarray
    axes: np.ndarray
    codes: np.ndarray
    steps: np.ndarray
    sizes: np.ndarray
    tails: np.ndarray
    norms: np.ndarray
    order: np.ndarray
    batcher: Batcher[ListQuery, Lists] = field(default_factory=Batcher)

    @classmethod
    def of(cls, factors: np.ndarray, ties: np.ndarray) -> FactorIndex:
        """Arrange item factors, float32 (n_items, n_factors); `ties` int32 (n_items,) orders equal scores."""
        factors = np.ascontiguousarray(factors, np.float32).view()
        # as they are where they are mapped from a file, so that kernels are compiled for one sort
        factors.flags.writeable = False
        n_items = len(factors)
        axes = _four_at_a_time(np.linalg.eigh(factors.T.astype(np.float64) @ factors)[1][:, ::-1])
        n_wide = axes.shape[1]
        lengths = np.linalg.norm(factors, axis=1)
        by_length = np.argsort(-lengths, kind="stable")
        n_blocks = -(-n_items // BLOCK)
        codes = np.full((n_blocks, n_wide // 4, BLOCK, 4), ZERO, np.uint8)
        steps, sizes = np.zeros((-(-n_blocks // STRETCH), n_wide), np.float32), np.zeros((n_blocks, 2), np.float32)
        tails = np.zeros((n_blocks, BLOCK), np.float32)
        order = np.full((n_blocks, BLOCK), -1, np.int32)
        order.ravel()[:n_items] = by_length
        for block in range(n_blocks):
            if block % STRETCH == 0:
                turned = factors[by_length[block * BLOCK : (block + STRETCH) * BLOCK]].astype(np.float64) @ axes
                step = np.maximum(np.abs(turned).max(axis=0) / STEPS, np.finfo(np.float32).tiny).astype(np.float32)
                steps[block // STRETCH] = step
            own = turned[block % STRETCH * BLOCK :][:BLOCK]
            numbers = np.rint(own / step)
            codes[block, :, : len(own)] = (numbers + ZERO).reshape(len(own), -1, 4).transpose(1, 0, 2)
            sizes[block] = [np.abs(numbers[:, :upto]).sum(axis=1).max() for upto in (HEAD, n_wide)]
            tails[block, : len(own)] = np.linalg.norm(own[:, HEAD:], axis=1)
        return cls(
            factors=factors,
            ties=np.ascontiguousarray(ties, np.int32),
            axes=axes,
            codes=codes.reshape(n_blocks, -1),
            steps=steps,
            sizes=sizes,
            tails=tails,
            norms=lengths[by_length[::BLOCK]].astype(np.float32),
            order=order,
        )

    def best(
        self, user: np.ndarray, n: int, allowed: np.ndarray | None = None, left_out: np.ndarray | None = None
    ) -> Lists:
        """The n best items for one user's factors, float32 (n_factors,); ties by `ties`. As many as there are.

        allowed: bool (n_items,), what may be listed. left_out: rising int32 item rows that may not. In a large
        catalogue those who ask at the same time are answered together, from one reading of the items.
        """
        require_range("n", n, 1, whole=True)
        if len(self.order) >= GATHERED_BLOCKS:
            return self.batcher.submit(ListQuery(user, n, allowed, left_out), self._together, GATHER_S)
        # by far the most frequent: nothing is arranged that one alone does not need. What may be
        # writable or not is copied: a kernel would be compiled for each by itself, while someone waits
        shape = min(n, len(self.factors))
        items, best = np.empty(shape, np.int32), np.empty(shape, np.float32)
        size, _ = best_items(
            self.codes, self.steps, self.sizes, self.tails, self.norms, self.order, self.factors, self.axes,
            min(HEAD, self.axes.shape[1]), np.array(user, np.float32),
            EVERY if allowed is None else allowed.view(np.uint8),
            NONE if left_out is None else np.array(left_out, np.int32), self.ties, items, best,
        )  # fmt: skip
        return Lists(items, best) if size == shape else Lists(items[:size], best[:size])

    def _together(self, wanted: list[ListQuery]) -> list[Lists]:
        """Those who wait, each thread for all of them over its share of the blocks."""
        turns = default_threads()
        lists: list[list[Lists]] = [[]] * turns

        def work(lo: int, hi: int) -> None:
            for turn in range(lo, hi):
                lists[turn] = self.several(wanted, turn, turns)[0]

        run_ranges(work, even_ranges(turns, 1), threads=turns)
        return [self._merged(parts, each.n) for each, *parts in zip(wanted, *lists, strict=True)]

    def _merged(self, parts: list[Lists], n: int) -> Lists:
        items, scores = (np.concatenate([getattr(part, name) for part in parts]) for name in ("items", "scores"))
        order = np.lexsort((self.ties[items], -scores))[:n]
        return Lists(items[order], scores[order])

    def several(self, wanted: list[ListQuery], turn: int = 0, turns: int = 1) -> tuple[list[Lists], int]:
        """The best of several users, and how many products were made in full. turn, of turns: over a share of the
        blocks."""
        users = np.array([each.user for each in wanted], dtype=np.float32)
        numbers = np.array([min(each.n, len(self.factors)) for each in wanted])
        gone = [NONE if each.left_out is None else each.left_out for each in wanted]
        left_from = np.concatenate([[0], np.cumsum([len(each) for each in gone])])
        masks, mask_of = _masks(wanted)
        shape = len(users), int(numbers.max())
        items, best = np.empty(shape, np.int32), np.empty(shape, np.float32)
        scored = best_items_of_several(
            self.codes, self.steps, self.sizes, self.tails, self.norms, self.order, self.factors, self.axes,
            min(HEAD, self.axes.shape[1]), users, masks, mask_of, np.concatenate(gone).astype(np.int32), left_from,
            self.ties, numbers, items, best, turn, turns,
        )  # fmt: skip
        sizes = (items >= 0).sum(axis=1).tolist()
        return [Lists(items[u, :size], best[u, :size]) for u, size in enumerate(sizes)], scored


def _four_at_a_time(axes: np.ndarray) -> np.ndarray:
    """Axes with some of no length behind, so that their number is a multiple of four."""
    return np.ascontiguousarray(np.pad(axes, ((0, 0), (0, -axes.shape[1] % 4))))


def _masks(wanted: list[ListQuery]) -> tuple[np.ndarray, np.ndarray]:
    """Masks as rows, those that several share once, and the row of each; -1 for everything."""
    rows: dict[int, int] = {}
    blocks: list[np.ndarray] = []
    masks = np.full(len(wanted), -1)
    for place, each in enumerate(wanted):
        if each.allowed is not None:
            if id(each.allowed) not in rows:
                rows[id(each.allowed)] = len(blocks)
                blocks.append(each.allowed.view(np.uint8))
            masks[place] = rows[id(each.allowed)]
    if len(blocks) == 1:
        return blocks[0].reshape(1, -1), masks
    return (np.stack(blocks) if blocks else NO_MASK), masks
