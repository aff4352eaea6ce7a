"""Models and item tables in memory, loaded once and shared by everything that answers from them."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Any, TypeVar

import polars as pl
from sqlalchemy import Engine

from gleaner.core.data.past import PastRows
from gleaner.core.data.together import MetItems
from gleaner.core.fitted import Fitted
from gleaner.serving.tables import ItemTable
from gleaner.store import datasets, models
from gleaner.store.datasets import VersionFiles
from gleaner.store.files.artefacts import ArtefactStore
from gleaner.store.files.interactions import read_rows
from gleaner.store.files.models import load_matrix, load_model

T = TypeVar("T")
KEPT_MODELS = 16
KEPT_TABLES = 8
KEPT_PASTS = 2
KEPT_SEARCHES = 4
KEPT_MET_ITEMS = 2


class _RecentlyUsed:
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


class ModelCache:
    """Loads on first use, keeps the most recent."""

    def __init__(self, engine: Engine, artefacts: ArtefactStore) -> None:
        self.engine = engine
        self.artefacts = artefacts
        self._models = _RecentlyUsed(KEPT_MODELS)
        self._matrices = _RecentlyUsed(KEPT_MODELS)
        self._tables = _RecentlyUsed(KEPT_TABLES)
        self._frames = _RecentlyUsed(KEPT_TABLES)
        self._pasts = _RecentlyUsed(KEPT_PASTS)
        self._searches = _RecentlyUsed(KEPT_SEARCHES)
        self._met_items = _RecentlyUsed(KEPT_MET_ITEMS)

    def model(self, reference: str) -> Fitted:
        """A model ready to answer. Raises UnknownNameError, or DataError when its files are missing or damaged."""
        with self.engine.begin() as connection:
            files = models.files(connection, reference)

        def load() -> Fitted:
            matrix = self._matrices.get(files.matrix_file, lambda: load_matrix(self.artefacts, files.matrix_file))
            return load_model(self.artefacts, files, matrix)

        # a name alone could stand for other files one day; these files cannot
        return self._models.get((files.name, files.state_file, files.matrix_file), load)

    def let_go(self) -> None:
        """Keep no rows of versions, and no tables: somebody among them was forgotten, and they are read again."""
        for kept in (self._tables, self._frames, self._pasts, self._searches, self._met_items):
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

    def search_table(self, digests: tuple[str | None, ...], make: Callable[[], pl.DataFrame]) -> pl.DataFrame:
        """What is searched, made once out of some files."""
        return self._searches.get(digests, make)

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

    def met_items(self, digest: str, make: Callable[[], MetItems]) -> MetItems:
        """Which users of a version met which items, made once out of its interactions."""
        return self._met_items.get(digest, make)

    def users_of_version(self, version_id: int | None) -> ItemTable:
        """The table of users, which has the same form."""
        if version_id is None:
            return ItemTable(None)
        with self.engine.begin() as connection:
            digest = datasets.files_by_id(connection, version_id).users_file
        if digest is None:
            return ItemTable(None)
        return self._tables.get(digest, lambda: ItemTable(pl.read_parquet(self.artefacts.local_path(digest))))
