"""Tables of items and users in memory: looked up by id, shown in lists, matched by conditions."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import polars as pl
import pyarrow as pa

from gleaner.core.data.tables.changed import SkippedCell, with_cells
from gleaner.core.data.tables.name_column import STORED_AS
from gleaner.core.errors import InputError, near
from gleaner.core.ranking.conditions.condition import compile_condition

FEW_VALUES = 40
MAX_CELLS = 500_000
"""Cells that are kept as JSON values for the next lists, at most 8 KB each and mostly a few bytes."""


class ItemTable:
    """Columns of items by id."""

    def __init__(self, frame: pl.DataFrame | None) -> None:
        self.frame = frame
        self.skipped_cells: list[SkippedCell] = []
        self._n_cells = 0
        self._cells: dict[tuple[str, ...], dict[str, dict[str, Any]]] = {}
        self._row = {} if frame is None else {text: row for row, text in enumerate(frame["id"].to_list())}

    def changed(self, cells: Iterable[tuple[str, str, Any]]) -> ItemTable:
        """Return the table with cells set, each given as id, column and JSON value.

        Cells of rows or columns that it lacks are ignored. Cells that do not fit their column are skipped, and listed
        in `skipped_cells` of the result.
        """
        if self.frame is None:
            return self
        frame, skipped = with_cells(self.frame, self._row, cells)
        if frame is self.frame and not skipped:
            return self
        table = ItemTable(None)
        table.frame, table._row, table.skipped_cells = frame, self._row, skipped
        return table

    @property
    def columns(self) -> list[str]:
        """Names of the columns, the id left out."""
        return [] if self.frame is None else [name for name in self.frame.columns if name != "id"]

    def columns_of(self, ids: Sequence[str] | pa.Array) -> pl.DataFrame:
        """The columns of these rows in their order, the id left out; nulls for those that the table lacks."""
        wanted = pl.DataFrame({"id": pl.Series(ids, dtype=pl.String)})
        frame = wanted if self.frame is None else wanted.join(self.frame, on="id", how="left", maintain_order="left")
        return frame.drop("id")

    def few_valued(self) -> list[str]:
        """Columns of text or flags with more than one value and few: by which items can be told apart at a glance."""
        if self.frame is None:
            return []
        texts = [name for name in self.columns if self.frame[name].dtype in (pl.String, pl.Boolean)]
        return [name for name in texts if 1 < self.frame[name].n_unique() <= FEW_VALUES]

    @property
    def label_column(self) -> str | None:
        """The column with what people call a row: the first there is of STORED_AS."""
        return next((name for name in STORED_AS if name in self.columns), None)

    def labels_of(self, items: list[str]) -> list[str | None]:
        """What people call each; None where the table does not say."""
        column = self.label_column
        if column is None:
            return [None] * len(items)
        return [str(cells[column]) if cells.get(column) else None for cells in self.of_many(items, [column])]

    def require_columns(self, wanted: list[str], where: str) -> None:
        """Raise InputError for a column that is to be shown and is not there."""
        for column in wanted:
            if column not in self.columns:
                has = near(column, self.columns) if self.columns else "; the dataset has no item table"
                raise InputError(f"there is no item column {column!r} to show{has}", where=where)

    def row_of(self, id: str) -> int | None:
        """Its place in the frame."""
        return self._row.get(id)

    def matching(self, condition: str) -> list[str]:
        """Ids of the items for which a condition holds. Raises InputError where it does not fit the columns."""
        if self.frame is None:
            raise InputError("a condition needs columns, and the dataset has no table of them", where="where")
        return self.frame.filter(compile_condition(condition, dict(self.frame.schema)))["id"].to_list()

    def of(self, item: str, columns: list[str]) -> dict[str, Any]:
        """The named columns of one item, as JSON values; empty for an item the table does not have."""
        return self.of_many([item], columns)[0]

    def of_many(self, items: list[str], columns: list[str]) -> list[dict[str, Any]]:
        """The same for several items, in their order."""
        if self.frame is None or not columns:
            return [{} for _ in items]
        cells = self._cells.setdefault(tuple(columns), {})
        # the same few items stand in most lists; an id the table lacks is not kept
        new = [item for item in items if item in self._row and item not in cells]
        if new:
            self._n_cells += len(new) * len(columns)
            if self._n_cells > MAX_CELLS:
                # callers choose the columns, so there may be any number of combinations
                self._cells.clear()
                cells = self._cells.setdefault(tuple(columns), {})
                new = [item for item in items if item in self._row]
                self._n_cells = len(new) * len(columns)
            rows = self.frame.select(columns)[[self._row[item] for item in new]].iter_rows(named=True)
            for item, row in zip(new, rows, strict=True):
                cells[item] = {name: _plain(value) for name, value in row.items()}
        return [dict(cells.get(item, {})) for item in items]


def _plain(value: Any) -> Any:
    """A cell as a JSON value."""
    return str(value) if hasattr(value, "isoformat") else value
