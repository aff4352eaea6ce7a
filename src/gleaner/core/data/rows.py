"""Interaction rows with ids as codes: what preparation and splits work on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

from gleaner.core.data.ids import IdMap

CONTEXT = "context."
"""Begins the name of a column that was kept beside each interaction."""


@dataclass(frozen=True, eq=False)
class InteractionRows:
    """Rows as they were imported, ids replaced by codes.

    frame: columns `user` and `item` (UInt32 codes into the maps) and, where the dataset has them, `kind` and `part`
    (text), `time` (UTC microseconds) and `value` (float64, null where missing); columns kept beside each interaction
    have CONTEXT before their name. scale: the declared lowest and highest value, where one was declared.
    """

    frame: pl.DataFrame
    users: IdMap
    items: IdMap
    scale: tuple[float, float] | None = None

    def __len__(self) -> int:
        return self.frame.height

    def has(self, column: str) -> bool:
        """Whether the rows carry this column."""
        return column in self.frame.columns

    def with_frame(self, frame: pl.DataFrame) -> InteractionRows:
        """The same maps over other rows."""
        return InteractionRows(frame, self.users, self.items, self.scale)

    @property
    def context(self) -> pl.DataFrame | None:
        """The columns kept beside each interaction, by their own names; None where there are none."""
        names = [name for name in self.frame.columns if name.startswith(CONTEXT)]
        return self.frame.select(pl.col(name).alias(name.removeprefix(CONTEXT)) for name in names) if names else None

    def with_time_parts(self) -> InteractionRows:
        """The same with hour, weekday (from 1, Monday) and month of each moment, in UTC, beside each interaction."""
        if not self.has("time"):
            return self
        moment = pl.col("time").dt
        parts = {"hour": moment.hour(), "weekday": moment.weekday(), "month": moment.month()}
        return self.with_frame(
            self.frame.with_columns(**{f"{CONTEXT}time.{name}": part for name, part in parts.items()})
        )

    @classmethod
    def from_arrow(
        cls, table: pa.Table, scale: tuple[float, float] | None = None, context: Sequence[str] = ()
    ) -> InteractionRows:
        """Encode the id columns of a table with text columns `user` and `item`. context: columns to keep beside each
        interaction."""
        codes: dict[str, pl.Series] = {}
        maps: dict[str, IdMap] = {}
        for name in ("user", "item"):
            column = table.column(name)
            if not pa.types.is_dictionary(column.type):
                column = pc.dictionary_encode(column)
            column = column.unify_dictionaries()
            ids = column.chunk(0).dictionary if column.num_chunks else pa.array([], type=pa.large_string())
            indices = [np.asarray(chunk.indices) for chunk in column.chunks]
            joined = np.concatenate(indices) if indices else np.array([], dtype=np.uint32)
            codes[name] = pl.Series(name, joined.astype(np.uint32))
            maps[name] = IdMap(ids)
        extra = [name for name in ("kind", "time", "value", "part") if name in table.column_names]
        rest = pl.from_arrow(table.select(extra)) if extra else pl.DataFrame()
        assert isinstance(rest, pl.DataFrame)
        frame = pl.DataFrame([codes["user"], codes["item"]]).hstack(rest.get_columns())
        if context:
            beside = pl.from_arrow(table.select(list(context)))
            assert isinstance(beside, pl.DataFrame)
            frame = frame.hstack(beside.rename(lambda name: f"{CONTEXT}{name}").get_columns())
        return cls(frame, maps["user"], maps["item"], scale)
