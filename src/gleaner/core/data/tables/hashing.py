"""Values beyond those that have a feature of their own share some by a hash, the same everywhere and always."""

from __future__ import annotations

from hashlib import blake2b

import numpy as np
import polars as pl

BUCKETS = 256
"""Features that the values of a column share which are too many to have one each."""


def buckets_of(texts: pl.Series) -> np.ndarray:
    """The bucket of every text: int64 (n,). Each different text is hashed once."""
    different = texts.unique()
    places = [int.from_bytes(blake2b(each.encode(), digest_size=8).digest()) % BUCKETS for each in different]
    return texts.replace_strict(different, pl.Series(places, dtype=pl.Int64), return_dtype=pl.Int64).to_numpy()
