"""Items arranged so that one user's best are found without scoring them all, and are the same.

Sources: stopping by norms and bounds in parts, Teflioudi, Gemulla, Mykytiuk 2015; turning the factors so that the
first directions carry most of the product, and whole numbers for the first pass, Li, Chan, Yiu, Mamoulis 2017.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from gleaner.core.errors import require_range
from gleaner.core.kernels.bounded import BLOCK, best_items
from gleaner.core.ranking.topn import Lists

HEAD = 16
"""Directions in the first, cheap part of the product."""

STEPS = 127
"""Steps from zero to the largest component of a direction in a block, so that a code fits eight bits."""

EVERY = np.empty(0, np.uint8)
NONE = np.empty(0, np.int32)


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
    tails: np.ndarray
    norms: np.ndarray
    order: np.ndarray

    @classmethod
    def of(cls, factors: np.ndarray, ties: np.ndarray) -> FactorIndex:
        """Arrange item factors, float32 (n_items, n_factors); `ties` int32 (n_items,) orders equal scores."""
        factors = np.ascontiguousarray(factors, np.float32)
        n_items, n_factors = factors.shape
        axes = np.linalg.eigh(factors.T.astype(np.float64) @ factors)[1][:, ::-1]
        lengths = np.linalg.norm(factors, axis=1)
        by_length = np.argsort(-lengths, kind="stable")
        n_blocks = -(-n_items // BLOCK)
        codes = np.zeros((n_blocks, n_factors, BLOCK), np.int8)
        steps = np.zeros((n_blocks, n_factors), np.float32)
        tails = np.zeros((n_blocks, BLOCK), np.float32)
        order = np.full((n_blocks, BLOCK), -1, np.int32)
        order.ravel()[:n_items] = by_length
        for block in range(n_blocks):
            rows = by_length[block * BLOCK : (block + 1) * BLOCK]
            turned = factors[rows].astype(np.float64) @ axes
            step = np.maximum(np.abs(turned).max(axis=0) / STEPS, np.finfo(np.float32).tiny).astype(np.float32)
            codes[block, :, : len(rows)] = np.rint(turned / step).T
            steps[block] = step
            tails[block, : len(rows)] = np.linalg.norm(turned[:, HEAD:], axis=1)
        return cls(
            factors=factors,
            ties=np.ascontiguousarray(ties, np.int32),
            axes=axes,
            codes=codes,
            steps=steps,
            tails=tails,
            norms=lengths[by_length[::BLOCK]].astype(np.float32),
            order=order,
        )

    def best(
        self, user: np.ndarray, n: int, allowed: np.ndarray | None = None, left_out: np.ndarray | None = None
    ) -> Lists:
        """The n best items for one user's factors, float32 (n_factors,); ties by `ties`. As many as there are.

        allowed: bool (n_items,), what may be listed. left_out: rising int32 item rows that may not.
        """
        lists, _ = self.counted(user, n, allowed, left_out)
        return lists

    def counted(
        self, user: np.ndarray, n: int, allowed: np.ndarray | None = None, left_out: np.ndarray | None = None
    ) -> tuple[Lists, int]:
        """The same, with how many items were scored in full."""
        require_range("n", n, 1, whole=True)
        n = min(n, len(self.factors))
        turned = user.astype(np.float64) @ self.axes
        items, best = np.empty(n, np.int32), np.empty(n, np.float32)
        scored = best_items(
            self.codes,
            self.steps,
            self.tails,
            self.norms,
            self.order,
            self.factors,
            np.asarray(user, np.float32),
            turned.astype(np.float32),
            min(HEAD, len(turned)),
            np.float32(math.sqrt(turned[HEAD:] @ turned[HEAD:])),
            EVERY if allowed is None else allowed.view(np.uint8),
            NONE if left_out is None else np.ascontiguousarray(left_out, np.int32),
            self.ties,
            items,
            best,
        )
        kept = items >= 0
        return Lists(items[kept], best[kept]), scored
