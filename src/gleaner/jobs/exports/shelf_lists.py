"""The list of everybody as a shelf serves it, part by part."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from gleaner.core.data.ids import IdMap
from gleaner.serving.shelf import LoadedShelf
from gleaner.wire.shelves.shelf import RecommendRequest

AT_ONCE = 512
"""Users of one part."""

COLUMNS = pa.schema(
    [
        ("user", pa.int32()),
        ("position", pa.int32()),
        ("item", pa.large_string()),
        ("score", pa.float32()),
        ("source", pa.large_string()),
        ("promoted", pa.bool_()),
        ("stand_in", pa.large_string()),
    ]
)


@dataclass(frozen=True, eq=False)
class ShelfLists:
    """A row for every place of every user's list: user, position, item, score (null where nothing scored it), what
    brought it in, whether it was promoted, and what stands in for a history that the model learned from."""

    shelf: LoadedShelf
    users: IdMap
    n: int

    @property
    def ids(self) -> dict[str, IdMap]:
        """Of users; items are texts already."""
        return {"user": self.users}

    @property
    def n_parts(self) -> int:
        """So many users each; one without rows where there are none."""
        return max(1, -(-len(self.users) // AT_ONCE))

    def part(self, number: int) -> pa.Table:
        """Users of one range, one after the other."""
        rows = np.arange(number * AT_ONCE, min((number + 1) * AT_ONCE, len(self.users)))
        columns: dict[str, list[object]] = {name: [] for name in COLUMNS.names}
        for row, user in zip(rows.tolist(), self.users.take(rows), strict=True):
            answer = self.shelf.answer(RecommendRequest(user=user, n=self.n))
            places, n_listed = answer.places, len(answer.places.items)
            stand_in = answer.stand_in.fallback or answer.stand_in.folded_in
            columns["user"] += [row] * n_listed
            columns["position"] += range(1, n_listed + 1)
            columns["item"] += places.items
            # what nothing scored is no number
            columns["score"] += [None if score != score else score for score in places.scores]
            columns["source"] += places.sources
            columns["promoted"] += places.promoted
            columns["stand_in"] += [stand_in] * n_listed
        return pa.table({name: pa.array(columns[name], COLUMNS.field(name).type) for name in COLUMNS.names})
