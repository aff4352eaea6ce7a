"""Which items each user has rows of, by kind and since when: what a condition asks of someone's history."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.windows import NEVER, TimedRows


@dataclass(frozen=True, eq=False)
class PastRows:
    """Rows by user. indptr int64 (n_users + 1,); items int32, kinds int16 (places in kind_names) and times int64
    (microseconds since 1970, UTC), one for each row: fourteen bytes a row."""

    users: IdMap
    items_map: IdMap
    kind_names: list[str]
    indptr: np.ndarray
    items: np.ndarray
    kinds: np.ndarray
    times: np.ndarray

    @classmethod
    def of(cls, rows: InteractionRows) -> PastRows:
        """Arrange the rows of a version."""
        order = np.argsort(rows.frame["user"].to_numpy(), kind="stable")
        frame = rows.frame[order]
        kinds = frame["kind"].cast(pl.String) if rows.has("kind") else pl.Series([None] * len(rows), dtype=pl.String)
        names = sorted(kinds.drop_nulls().unique().to_list())
        place = {name: at for at, name in enumerate(names)}
        times = np.full(len(rows), NEVER)
        if rows.has("time"):
            since = frame["time"].dt.replace_time_zone(None).cast(pl.Datetime("us")).cast(pl.Int64)
            times = since.fill_null(NEVER).to_numpy()
        counts = np.bincount(frame["user"].to_numpy(), minlength=len(rows.users))
        return cls(
            users=rows.users,
            items_map=rows.items,
            kind_names=names,
            indptr=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
            items=frame["item"].to_numpy().astype(np.int32),
            kinds=kinds.replace_strict(place, default=-1, return_dtype=pl.Int16).to_numpy(),
            times=np.asarray(times, dtype=np.int64),
        )

    @cached_property
    def in_time(self) -> TimedRows:
        """All rows in order of time, for windows; made once, another fourteen bytes a row."""
        return TimedRows.of(self.items, self.kinds, self.times)

    def items_of(self, user: str | None, kind: str | None, since: datetime | None) -> np.ndarray:
        """Rows of `items_map` that a user has rows of, repeats included: int32. since: not before this moment."""
        row = self.users.row(user) if user is not None else None
        if row is None:
            return np.empty(0, dtype=np.int32)
        stretch = slice(self.indptr[row], self.indptr[row + 1])
        kept = np.ones(stretch.stop - stretch.start, dtype=bool)
        if kind is not None:
            kept &= self.kinds[stretch] == (self.kind_names.index(kind) if kind in self.kind_names else -2)
        if since is not None:
            kept &= self.times[stretch] >= int(since.astimezone(UTC).timestamp() * 1_000_000)
        return self.items[stretch][kept]

    def last_of(self, user: str | None, n: int) -> np.ndarray:
        """Rows of `items_map` that a user touched last, the newest first, each once, at most n: int32."""
        row = self.users.row(user) if user is not None else None
        if row is None:
            return np.empty(0, dtype=np.int32)
        stretch = slice(self.indptr[row], self.indptr[row + 1])
        newest = self.items[stretch][np.argsort(-self.times[stretch], kind="stable")]
        return newest[np.sort(np.unique(newest, return_index=True)[1])][:n]
