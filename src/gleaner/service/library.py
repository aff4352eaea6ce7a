"""Models and item tables in memory, loaded once and shared by everything that answers from them."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import polars as pl
from sqlalchemy import Engine

from gleaner.core.data.changed import with_cells
from gleaner.core.data.past import PastRows
from gleaner.core.errors import InputError, near
from gleaner.core.fitted import Fitted
from gleaner.core.ranking.conditions import compile_condition
from gleaner.jobs.divide import read_rows
from gleaner.jobs.model_files import load_matrix, load_model
from gleaner.store import datasets, models
from gleaner.store.artefacts import ArtefactStore
from gleaner.store.datasets import VersionFiles
from gleaner.store.live_columns import Cell

T = TypeVar("T")
KEPT_MODELS = 16
KEPT_TABLES = 8
KEPT_PASTS = 2


class _Recent:
    """The most recently used values of one sort. A value is loaded by one thread while others wait for it."""

    def __init__(self, size: int) -> None:
        self._size = size
        self._values: OrderedDict[Any, Any] = OrderedDict()
        self._lock = threading.RLock()

    def clear(self) -> None:
        with self._lock:
            self._values.clear()

    def get(self, key: Any, load: Callable[[], T]) -> T:
        with self._lock:
            if key not in self._values:
                self._values[key] = load()
                if len(self._values) > self._size:
                    self._values.popitem(last=False)
            self._values.move_to_end(key)
            return self._values[key]


LABEL_COLUMNS = ("name", "title", "label")


class ItemTable:
    """Columns of items by id."""

    def __init__(self, frame: pl.DataFrame | None) -> None:
        self.frame = frame
        self._cells: dict[tuple[str, ...], dict[str, dict[str, Any]]] = {}
        self._row = {} if frame is None else {text: row for row, text in enumerate(frame["id"].to_list())}

    def changed(self, cells: Sequence[Cell]) -> ItemTable:
        """The same table with cells set; those of rows or columns that it lacks are passed over."""
        if self.frame is None:
            return self
        frame = with_cells(self.frame, self._row, ((cell.row_id, cell.name, cell.value) for cell in cells))
        if frame is self.frame:
            return self
        made = ItemTable(None)
        made.frame, made._row = frame, self._row
        return made

    @property
    def columns(self) -> list[str]:
        """Names of the columns, the id left out."""
        return [] if self.frame is None else [name for name in self.frame.columns if name != "id"]

    @property
    def label_column(self) -> str | None:
        """The column with what people call a row: the first there is of LABEL_COLUMNS."""
        return next((name for name in LABEL_COLUMNS if name in self.columns), None)

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
        # the same few items stand in most lists; an id the table lacks is not kept, so this cannot grow beyond it
        new = [item for item in items if item in self._row and item not in cells]
        if new:
            found = self.frame.select(columns)[[self._row[item] for item in new]].iter_rows(named=True)
            for item, row in zip(new, found, strict=True):
                cells[item] = {name: _plain(value) for name, value in row.items()}
        return [dict(cells.get(item, {})) for item in items]


def _plain(value: Any) -> Any:
    """A cell as a JSON value."""
    return str(value) if hasattr(value, "isoformat") else value


class Library:
    """Loads on first use, keeps the most recent."""

    def __init__(self, engine: Engine, artefacts: ArtefactStore) -> None:
        self.engine = engine
        self.artefacts = artefacts
        self._models = _Recent(KEPT_MODELS)
        self._matrices = _Recent(KEPT_MODELS)
        self._tables = _Recent(KEPT_TABLES)
        self._frames = _Recent(KEPT_TABLES)
        self._pasts = _Recent(KEPT_PASTS)

    def model(self, reference: str) -> Fitted:
        """A model ready to answer. Raises NotFoundError, or DataError when its files are missing or damaged."""
        with self.engine.begin() as connection:
            files = models.files(connection, reference)

        def load() -> Fitted:
            matrix = self._matrices.get(files.matrix_file, lambda: load_matrix(self.artefacts, files.matrix_file))
            return load_model(self.artefacts, files, matrix)

        return self._models.get(files.name, load)

    def let_go(self) -> None:
        """Keep no rows of versions, and no tables: somebody among them was forgotten, and they are read again."""
        for kept in (self._tables, self._frames, self._pasts):
            kept.clear()

    def items_of(self, files: VersionFiles) -> ItemTable:
        """The item table of a dataset version; an empty one where it has none."""
        if files.items_file is None:
            return ItemTable(None)
        digest = files.items_file
        return self._tables.get(digest, lambda: ItemTable(pl.read_parquet(self.artefacts.local_path(digest))))

    def frame(self, digest: str) -> pl.DataFrame:
        """A small table file, read once."""
        return self._frames.get(digest, lambda: pl.read_parquet(self.artefacts.local_path(digest)))

    def items_of_version(self, version_id: int | None) -> ItemTable:
        """The same by row id of the version."""
        if version_id is None:
            return ItemTable(None)
        with self.engine.begin() as connection:
            files = datasets.files_by_id(connection, version_id)
        return self.items_of(files)

    def past(self, version_id: int) -> PastRows:
        """What the users of a version did, by kind and time."""
        with self.engine.begin() as connection:
            digest = datasets.files_by_id(connection, version_id).interactions_file
        return self._pasts.get(digest, lambda: PastRows.of(read_rows(self.artefacts.local_path(digest))))

    def users_of_version(self, version_id: int | None) -> ItemTable:
        """The table of users, which has the same form."""
        if version_id is None:
            return ItemTable(None)
        with self.engine.begin() as connection:
            digest = datasets.files_by_id(connection, version_id).users_file
        if digest is None:
            return ItemTable(None)
        return self._tables.get(digest, lambda: ItemTable(pl.read_parquet(self.artefacts.local_path(digest))))
