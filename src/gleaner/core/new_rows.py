"""Users and items of pairs that training never saw, by rows of their tables: for models that look at columns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import InputError
from gleaner.core.models.base.capabilities import SideName, knowing_columns
from gleaner.core.models.base.protocol import Model


@dataclass(frozen=True, eq=False)
class NewRows:
    """A model that also knows some rows behind those of training, and which ids these are of."""

    model: Model
    rows: Mapping[SideName, Mapping[str, int]] = field(default_factory=dict)

    def of(self, side: SideName, ids: IdMap, names: Sequence[str]) -> np.ndarray:
        """The row of each id, -1 for one of which nothing is known: int32 (n,)."""
        rows, new = ids.rows(names), self.rows.get(side)
        if new:
            for place in np.flatnonzero(rows < 0):
                rows[place] = new.get(names[int(place)], -1)
        return rows


def with_rows_of(
    model: Model,
    train: InteractionMatrix,
    named: Mapping[SideName, Sequence[str]],
    tables: Mapping[SideName, pl.DataFrame],
) -> NewRows:
    """The model with those of the named users and items that training never saw and that a table has a row of. tables:
    column `id` and others. A table whose columns are no longer those of training adds nobody."""
    rows: dict[SideName, dict[str, int]] = {}
    for side, table in tables.items():
        knows, ids = knowing_columns(model, side), train.users if side == "users" else train.items
        new = [name for name in dict.fromkeys(named[side]) if ids.row(name) is None]
        if knows is None or not new:
            continue
        there = table.filter(pl.col("id").is_in(new))
        try:
            extended = knows.with_rows(side, _longer(train, side, there.height), there) if there.height else model
        except InputError:
            continue
        model, train = extended, extended.trained_on
        rows[side] = {name: len(ids) + place for place, name in enumerate(there["id"].to_list())}
    return NewRows(model, rows)


def _longer(train: InteractionMatrix, side: SideName, n: int) -> InteractionMatrix:
    """With so many users more that have nothing; who they are is known elsewhere. Items need no room of their own."""
    if side == "items":
        return train
    return replace(train, indptr=np.concatenate([train.indptr, np.full(n, train.indptr[-1])]))
