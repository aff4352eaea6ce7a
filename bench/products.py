"""The peer of everything that ranks: the bare matrix product."""

from __future__ import annotations

from gleaner.core.models.implicit.als import Als
from gleaner.core.parallel import default_threads, even_ranges, run_ranges
from gleaner.core.ranking.topn import BLOCK_SCORES

RANK = 64
PRODUCT = "bare matrix product"


def bare_product(model: Als) -> None:
    """Every user times every item in the same blocks on the same threads, the scores thrown away."""
    X, Y = model.user_factors_, model.item_factors_
    block = max(1, min(1024, BLOCK_SCORES // len(Y), -(-len(X) // default_threads())))

    def work(lo: int, hi: int) -> None:
        X[lo:hi] @ Y.T

    run_ranges(work, even_ranges(len(X), block))
