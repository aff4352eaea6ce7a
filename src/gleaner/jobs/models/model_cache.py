"""Models and item tables in memory, loaded once and shared by everything that answers from them."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import replace
from typing import Any, TypeVar
from weakref import WeakSet

import polars as pl
from sqlalchemy import Engine

from gleaner.core.data.past import PastRows
from gleaner.core.data.together import MetItems
from gleaner.core.data.untrained_cells import UntrainedLookup
from gleaner.core.fitted import Fitted
from gleaner.jobs.models.untrained import untrained_lookup
from gleaner.jobs.worker.memory import machine_memory
from gleaner.serving.tables import ItemTable
from gleaner.store import datasets, models
from gleaner.store.datasets import VersionFiles
from gleaner.store.files.artefacts import IS_DIGEST, ArtefactStore
from gleaner.store.files.interactions import read_rows
from gleaner.store.files.models import load_matrix, load_model

T = TypeVar("T")
MEMORY_SHARES = {"models": 8, "matrices": 8, "tables": 16, "frames": 32, "pasts": 16, "searches": 32, "met_items": 16}
"""Each sort of value may take one part in so many of this machine's memory, as measured by its files."""

MAX_VALUES = 64
EXPANSION = 4
"""How much larger a compressed table is in memory than in its file, about."""


class _RecentlyUsed:
    """The most recently used values of one sort, up to so many bytes.

    The value used last always stays. A value is loaded by one thread while others wait for it.
    """

    def __init__(self, max_bytes: int) -> None:
        self._max_bytes, self._n_bytes = max_bytes, 0
        self._values: OrderedDict[Any, tuple[Any, int]] = OrderedDict()
        self._lock = threading.RLock()

    def clear(self) -> None:
        """Drop every value."""
        with self._lock:
            self._values.clear()
            self._n_bytes = 0

    def get(self, key: Any, load: Callable[[], T], size: Callable[[], int]) -> T:
        """Return the value of a key, loaded first where it is not here. size: returns its bytes, about."""
        with self._lock:
            if key not in self._values:
                value = load()
                n_bytes = size()
                self._values[key] = value, n_bytes
                self._n_bytes += n_bytes
                while len(self._values) > 1 and (self._n_bytes > self._max_bytes or len(self._values) > MAX_VALUES):
                    self._n_bytes -= self._values.popitem(last=False)[1][1]
            self._values.move_to_end(key)
            return self._values[key][0]


class ModelCache:
    """Loads on first use, keeps the most recent."""

    def __init__(self, engine: Engine, artefacts: ArtefactStore) -> None:
        self.engine = engine
        self.artefacts = artefacts
        memory = machine_memory()
        self._untrained: WeakSet[UntrainedLookup] = WeakSet()
        self._models, self._matrices, self._tables, self._frames, self._pasts, self._searches, self._met_items = (
            _RecentlyUsed(memory // share) for share in MEMORY_SHARES.values()
        )

    def model(self, reference: str) -> Fitted:
        """A model ready to answer. Raises UnknownNameError, or DataError when its files are missing or damaged."""
        with self.engine.begin() as connection:
            files = models.files(connection, reference)

        def load() -> Fitted:
            digest = files.matrix_file
            matrix = self._matrices.get(digest, lambda: load_matrix(self.artefacts, digest), self._size(digest))
            untrained = untrained_lookup(self.engine, self.artefacts, files, matrix)
            self._untrained.add(untrained)
            return replace(load_model(self.artefacts, files, matrix), untrained=untrained)

        # a name alone could stand for other files one day; these files cannot
        key = files.name, files.state_file, files.matrix_file
        return self._models.get(key, load, self._size(files.state_file))

    def _size(self, *digests: str | None, times: int = 1) -> Callable[[], int]:
        """Return a function of the bytes of some files, or of a multiple of them."""

        def size() -> int:
            paths = [self.artefacts.local_path(name) for name in digests if name is not None and IS_DIGEST.match(name)]
            return times * sum(path.stat().st_size for path in paths)

        return size

    def _table(self, digest: str) -> ItemTable:
        def load() -> ItemTable:
            return ItemTable(pl.read_parquet(self.artefacts.local_path(digest)))

        return self._tables.get(digest, load, self._size(digest, times=EXPANSION))

    def let_go(self) -> None:
        """Drop all rows of versions, and all tables: somebody among them was forgotten, and they are read again."""
        for cache in (self._tables, self._frames, self._pasts, self._searches, self._met_items):
            cache.clear()
        for untrained in list(self._untrained):
            untrained.clear()

    def items_of(self, files: VersionFiles) -> ItemTable:
        """Return the item table of a dataset version; an empty one where it has none."""
        return ItemTable(None) if files.items_file is None else self._table(files.items_file)

    def frame(self, digest: str) -> pl.DataFrame:
        """Return a small table file, read once."""

        def load() -> pl.DataFrame:
            return pl.read_parquet(self.artefacts.local_path(digest))

        return self._frames.get(digest, load, self._size(digest, times=EXPANSION))

    def search_table(self, digests: tuple[str | None, ...], make: Callable[[], pl.DataFrame]) -> pl.DataFrame:
        """Return the table that is searched, made once out of some files."""
        return self._searches.get(digests, make, self._size(*digests, times=EXPANSION))

    def items_of_version(self, version_id: int | None) -> ItemTable:
        """Return the item table of a version by its row id; an empty one without a version."""
        if version_id is None:
            return ItemTable(None)
        with self.engine.begin() as connection:
            files = datasets.files_by_id(connection, version_id)
        return self.items_of(files)

    def past(self, version_id: int) -> PastRows:
        """Return what the users of a version did, by kind and time."""
        with self.engine.begin() as connection:
            digest = datasets.files_by_id(connection, version_id).interactions_file

        def load() -> PastRows:
            return PastRows.of(read_rows(self.artefacts.local_path(digest)))

        return self._pasts.get(digest, load, self._size(digest, times=EXPANSION))

    def met_items(self, digest: str, make: Callable[[], MetItems]) -> MetItems:
        """Return which users of a version met which items, made once out of its interactions."""
        return self._met_items.get(digest, make, self._size(digest, times=EXPANSION))

    def users_of_version(self, version_id: int | None) -> ItemTable:
        """Return the user table of a version by its row id, which has the same form as an item table."""
        if version_id is None:
            return ItemTable(None)
        with self.engine.begin() as connection:
            digest = datasets.files_by_id(connection, version_id).users_file
        return ItemTable(None) if digest is None else self._table(digest)
