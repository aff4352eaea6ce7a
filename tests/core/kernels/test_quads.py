"""Products in whole numbers against NumPy's, to the last bit, by every way that this processor has."""

from __future__ import annotations

import numpy as np
import pytest

from gleaner.core.kernels import quads
from gleaner.core.kernels.quads import BLOCK

WAYS = quads.ways()


def expected(codes, weights, first, last):
    """codes (n_quads, BLOCK, 4), weights (n_quads, users, 4)."""
    part = slice(first, last)
    return np.einsum("qjk,quk->uj", codes[part].astype(np.int64), weights[part].astype(np.int64))


def test_any_processor_has_a_way():
    assert [type(each) for each in WAYS[-1]] == [quads.Plain] * 2


@pytest.mark.parametrize("way", WAYS, ids=lambda way: type(way[0]).__name__)
@pytest.mark.parametrize("users", [1, 4])
def test_products_are_exact(way, users):
    add = quads.kernels(*way)[users == 4]
    rng = np.random.default_rng(users)
    for n_quads, extreme in ((1, False), (5, False), (16, False), (40, True)):
        shape = (n_quads, BLOCK, 4), (n_quads, users, 4)
        if extreme:
            codes, weights = np.full(shape[0], 255, np.uint8), np.full(shape[1], -127, np.int8)
        else:
            codes = rng.integers(0, 256, shape[0]).astype(np.uint8)
            weights = rng.integers(-127, 128, shape[1]).astype(np.int8)
        words = weights.reshape(-1).view(np.int32)
        totals = rng.integers(-1000, 1000, (users, BLOCK)).astype(np.int32)
        begun, half = totals.copy(), n_quads // 2
        # the second of two blocks
        blocks = np.stack([255 - codes, codes]).reshape(2, -1)
        add(blocks, 1, words, 0, half, totals)
        assert (totals - begun == expected(codes, weights, 0, half)).all()
        add(blocks, 1, words, half, n_quads, totals)
        assert (totals - begun == expected(codes, weights, 0, n_quads)).all()
