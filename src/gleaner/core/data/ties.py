"""Seeded order of items with equal scores."""

from __future__ import annotations

from hashlib import blake2b

import numpy as np

from gleaner.core.data.ids import IdMap

DEFAULT_SEED = 17


def tie_order(items: IdMap, seed: int = DEFAULT_SEED) -> np.ndarray:
    """Rank of each item by a keyed hash of its id: int32 (n_items,), a permutation.

    By the id and not the row, so that the order survives a new version of the data, and favours no item for standing
    first in a file (which popular items do).
    """
    key = seed.to_bytes(8, "little", signed=True)
    hashes = [blake2b(text.encode(), digest_size=8, key=key).digest() for text in items.ids.to_pylist()]
    order = np.empty(len(hashes), dtype=np.int32)
    order[np.array(sorted(range(len(hashes)), key=hashes.__getitem__), dtype=np.int64)] = np.arange(len(hashes))
    return order
