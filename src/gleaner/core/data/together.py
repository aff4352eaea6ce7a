"""Which items go together, counted exactly."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.ids import IdMap


@dataclass(frozen=True, eq=False)
class MetItems:
    """Who met what, each pair once: a row for each user, a column for each item; five bytes a pair."""

    pairs: sparse.csr_array
    holders: np.ndarray
    items: IdMap

    @classmethod
    def of(cls, rows: pl.LazyFrame, users: pl.Series, items: pl.Series, *, by_hash: bool = True) -> MetItems:
        """Of the rows of a version, columns user and item. users, items: every id that is in them, once. by_hash: ids
        are joined by their hashes, in a third of the time, unless two of them share one."""
        n_items = len(items)
        # one number a pair: sorting these is many times quicker than grouping texts
        by_hash = by_hash and all(ids.hash().n_unique() == len(ids) for ids in (users, items))
        placed = _placed(rows, users, items, by_hash=by_hash)
        met = np.sort(placed["user_at"].to_numpy() * n_items + placed["item_at"].to_numpy())
        met = met[np.diff(met, prepend=-1) > 0]
        of_user, indices = np.divmod(met, n_items)
        indptr = np.searchsorted(of_user, np.arange(len(users) + 1))
        ones = np.ones(len(met), dtype=np.int8)
        pairs = sparse.csr_array((ones, indices.astype(np.int32), indptr), shape=(len(users), n_items))
        return cls(pairs, np.bincount(indices, minlength=n_items), IdMap(items.to_arrow()))

    def together(self, item: str, n: int) -> list[dict[str, Any]]:
        """The n items that share most users with one: item, shared, share of its users, lift. Empty for an unknown one.

        lift = shared * all users / (users of the item * users of the other) (Brin, Motwani, Ullman, Tsur 1997).
        """
        code = self.items.row(item)
        if code is None:
            return []
        places = np.flatnonzero(self.pairs.indices == code)
        users = np.searchsorted(self.pairs.indptr, places, side="right") - 1
        shared = np.bincount(self.pairs[users].indices, minlength=len(self.items))
        shared[code] = 0
        met = np.flatnonzero(shared)
        # those level with the last are told apart by their ids
        least = np.sort(shared[met])[-n:][0] if len(met) else 0
        candidates = met[shared[met] >= least]
        ordered = sorted(zip((-shared[candidates]).tolist(), self.items.take(candidates), candidates, strict=True))[:n]
        return [self._pair(other, name, int(shared[other]), len(users)) for _, name, other in ordered]

    def _pair(self, other: int, name: str, shared: int, users: int) -> dict[str, Any]:
        lift = shared * self.pairs.shape[0] / (users * int(self.holders[other]))
        return {"item": name, "shared": shared, "share": shared / users, "lift": lift}


def _placed(rows: pl.LazyFrame, users: pl.Series, items: pl.Series, *, by_hash: bool) -> pl.DataFrame:
    """Where the user and the item of each row stand among all: int64 columns user_at and item_at."""
    keyed = rows.select(pl.col("user", "item").hash() if by_hash else pl.col("user", "item"))
    for name, ids in (("user", users), ("item", items)):
        places = pl.DataFrame({name: ids.hash() if by_hash else ids, f"{name}_at": np.arange(len(ids))})
        keyed = keyed.join(places.lazy(), on=name, how="inner")
    return keyed.select("user_at", "item_at").collect(engine="streaming")
