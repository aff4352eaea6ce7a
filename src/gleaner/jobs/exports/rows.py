"""What an export holds, part by part. Parts hold rows of the model where ids will stand: small, and quick to write."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import pyarrow as pa

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import factors_of
from gleaner.core.ranking.directions import top_users
from gleaner.core.ranking.topn import Lists, top_n

AT_ONCE, PAIRS_AT_ONCE = 4096, 65_536
"""Owners of one part, and pairs."""


class Content(Protocol):
    """Parts of an export, each a table that does not depend on any other part."""

    @property
    def n_parts(self) -> int: ...

    def part(self, number: int) -> pa.Table:
        """The rows of one part; columns that are named in `ids` hold rows of these."""
        ...

    @property
    def ids(self) -> dict[str, IdMap]: ...


@dataclass(frozen=True, eq=False)
class TopLists:
    """The n best of every owner: owner, position, listed, score.

    side: whose lists these are. known: cells that are left out, or None. allowed: what may be listed, bool.
    """

    fitted: Fitted
    side: str
    n: int
    known: InteractionMatrix | None
    allowed: np.ndarray | None

    @property
    def ids(self) -> dict[str, IdMap]:
        """Both."""
        return {"user": self.fitted.train.users, "item": self.fitted.train.items}

    @property
    def n_parts(self) -> int:
        """So many owners each."""
        return -(-len(self.ids[self.side]) // AT_ONCE)

    def part(self, number: int) -> pa.Table:
        """Lists of one range of owners, one after the other."""
        owners = np.arange(number * AT_ONCE, min((number + 1) * AT_ONCE, len(self.ids[self.side])), dtype=np.int32)
        fitted, exclude = self.fitted, self.known
        if self.side == "user":
            lists = top_n(fitted.model, owners, self.n, fitted.ties, exclude=exclude, allowed=self.allowed)
        else:
            lists = top_users(fitted.model, owners, self.n, fitted.user_ties, exclude=exclude, allowed=self.allowed)
        return self._table(owners, lists)

    def _table(self, owners: np.ndarray, lists: Lists) -> pa.Table:
        kept = lists.items >= 0
        place = np.broadcast_to(np.arange(1, lists.items.shape[1] + 1, dtype=np.int32), kept.shape)
        listed = "item" if self.side == "user" else "user"
        columns = {
            self.side: np.repeat(owners, np.count_nonzero(kept, axis=1)),
            "position": place[kept],
            listed: lists.items[kept],
            "score": lists.scores[kept],
        }
        return pa.table({name: pa.array(column) for name, column in columns.items()})


@dataclass(frozen=True, eq=False)
class Affinity:
    """A row for each user, a column for each item: the model's score, null where the user has the item.

    known: cells that are null, or None. by_item: scores of all users where they do not come from factors, float32
    (n_items, n_users).
    """

    fitted: Fitted
    users: np.ndarray
    items: list[str]
    known: InteractionMatrix | None
    by_item: np.ndarray | None

    @classmethod
    def of(cls, fitted: Fitted, users: np.ndarray, items: list[str], known: InteractionMatrix | None) -> Affinity:
        """Scores of the named items only, and never all items of all users."""
        by_item = None
        if factors_of(fitted.model) is None:
            by_item = fitted.model.item_scores(fitted.train.items.rows(items))
        return cls(fitted, users, items, known, by_item)

    @property
    def ids(self) -> dict[str, IdMap]:
        """Of users."""
        return {"user": self.fitted.train.users}

    @property
    def n_parts(self) -> int:
        """So many users each; one without rows where there are none."""
        return max(1, -(-len(self.users) // AT_ONCE))

    def part(self, number: int) -> pa.Table:
        """Users of one range."""
        mine = slice(number * AT_ONCE, (number + 1) * AT_ONCE)
        rows = self.users[mine]
        scores = self._scores(rows)
        gone = np.zeros(scores.shape, dtype=bool)
        if self.known is not None:
            columns = self.fitted.train.items.rows(self.items)
            for place, row in enumerate(rows):
                gone[place] = np.isin(columns, self.known.history(int(row))[0])
        cells = {item: pa.array(scores[:, at], mask=gone[:, at]) for at, item in enumerate(self.items)}
        return pa.table({"user": pa.array(rows)} | cells)

    def _scores(self, rows: np.ndarray) -> np.ndarray:
        """Of some users: float32 (n, n_items)."""
        if self.by_item is not None:
            return self.by_item.T[rows].astype(np.float32)
        factors = factors_of(self.fitted.model)
        assert factors is not None
        return factors.users[rows] @ factors.items[self.fitted.train.items.rows(self.items)].T


@dataclass(frozen=True, eq=False)
class Predicted:
    """What a model predicts for pairs, a table of `user` and `item`: user, item, value, answerable, reason,
    fell_back_on."""

    fitted: Fitted
    pairs: pa.Table
    ids: dict[str, IdMap]

    @property
    def n_parts(self) -> int:
        """So many pairs each."""
        return max(1, -(-self.pairs.num_rows // PAIRS_AT_ONCE))

    def part(self, number: int) -> pa.Table:
        """Pairs of one range, in their order."""
        mine = self.pairs.slice(number * PAIRS_AT_ONCE, PAIRS_AT_ONCE)
        return self.fitted.rate(mine["user"].to_pylist(), mine["item"].to_pylist()).to_arrow()


def with_ids(part: pa.Table, ids: dict[str, IdMap]) -> pa.Table:
    """A part with ids where it holds rows: dictionary arrays over the ids that are in it."""
    for name, known in ids.items():
        rows = part[name].to_numpy()
        distinct, places = np.unique(rows, return_inverse=True)
        column = pa.DictionaryArray.from_arrays(pa.array(places.astype(np.int32)), known.ids.take(pa.array(distinct)))
        part = part.set_column(part.column_names.index(name), name, column)
    return part


def parts_with_ids(
    parts: Iterator[pa.Table], ids: dict[str, IdMap], owner: str = "", seen: set[int] | None = None
) -> Iterator[pa.Table]:
    """The same for several. seen: takes the rows that the column `owner` names."""
    for part in parts:
        if seen is not None:
            seen.update(np.unique(part[owner].to_numpy()).tolist())
        yield with_ids(part, ids)
