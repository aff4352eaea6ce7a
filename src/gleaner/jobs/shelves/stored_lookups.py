"""What shelves are built of, looked up in the store: models, tables with what changed since, and what events weigh."""

from __future__ import annotations

import logging
from dataclasses import dataclass, field
from typing import Protocol

from sqlalchemy import Engine

from gleaner.core.data.live import LiveRow, LiveRows
from gleaner.core.data.past import PastRows
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.preparation.live_cells import LiveReading
from gleaner.core.preparation.recipe import Recipe
from gleaner.jobs.contests.declarations import preparation_of
from gleaner.jobs.models.model_cache import ModelCache
from gleaner.serving.building import ShelfBuilder, ShelfTables, build
from gleaner.serving.conditions import KnownUsers
from gleaner.serving.shelf import LoadedShelf
from gleaner.serving.tables import ItemTable
from gleaner.store import datasets, events, live_columns, models, shelves
from gleaner.store.events import StoredEvent
from gleaner.wire.contests.contest import PrepareSpec


class LiveSource(Protocol):
    """What came since models learned."""

    def rows(self, dataset_id: int) -> LiveRows:
        """The events of a dataset."""
        ...


@dataclass(frozen=True, eq=False)
class StoredEvents:
    """The newest events of datasets, read from the store once. most: events of a dataset that are held."""

    engine: Engine
    most: int
    _rows: dict[int, LiveRows] = field(default_factory=dict)

    def rows(self, dataset_id: int) -> LiveRows:
        """Return the events of a dataset."""
        rows = self._rows.get(dataset_id)
        if rows is None:
            rows = self._rows[dataset_id] = LiveRows(self.most)
            with self.engine.begin() as connection:
                rows.add((event.user, live_row(event)) for event in events.newest(connection, dataset_id, self.most))
        return rows


def live_row(event: StoredEvent) -> LiveRow:
    """Return a stored event as a live row."""
    at = int(event.at.timestamp() * 1_000_000)
    return LiveRow(event.seq, event.item, event.kind, event.value, at)


log = logging.getLogger("gleaner.service")


@dataclass(frozen=True, eq=False)
class StoredLookups:
    """Looks things up where they are kept."""

    engine: Engine
    library: ModelCache
    live: LiveSource

    def model(self, name: str) -> Fitted:
        """A model by its name. Raises UnknownNameError."""
        return self.library.model(name)

    def tables(self, main: Fitted) -> ShelfTables:
        """The items and users of the version that a model was trained on, with what changed since, and its dataset."""
        with self.engine.begin() as connection:
            version_id = models.files(connection, main.name).version_id
        if version_id is None:
            return ShelfTables(ItemTable(None), KnownUsers(ItemTable(None), [], _nothing_past, LiveRows()))
        return self.tables_of_version(version_id)

    def tables_of_version(self, version_id: int) -> ShelfTables:
        """Return the items and users of a version by its row id, with what changed since, and its dataset."""
        with self.engine.begin() as connection:
            kinds = datasets.kinds_by_id(connection, version_id)
            dataset_id, changes_upto = datasets.dataset_and_changes(connection, version_id)
            upto = datasets.files_by_id(connection, version_id).events_upto
            sides: tuple[live_columns.Side, ...] = ("item", "user")
            changed = [live_columns.cells_of(connection, dataset_id, side, changes_upto) for side in sides]
        whole = self.library.items_of_version(version_id), self.library.users_of_version(version_id)
        items, users = (
            table.changed((cell.row_id, cell.name, cell.value) for cell in cells)
            for table, cells in zip(whole, changed, strict=True)
        )
        for table in (items, users):
            if table.skipped_cells:
                shown = "; ".join(map(str, table.skipped_cells[:3]))
                log.warning("%d changed cells do not fit the data and are ignored: %s", len(table.skipped_cells), shown)
        past = lambda: self.library.past(version_id)  # noqa: E731
        return ShelfTables(items, KnownUsers(users, kinds, past, self.live.rows(dataset_id), upto), dataset_id)

    def reading(self, fitted: Fitted) -> LiveReading:
        """How a model's preparation reads events."""
        with self.engine.begin() as connection:
            prepare = PrepareSpec.model_validate(models.get(connection, fitted.name).prepare)
        recipe = Recipe.of(preparation_of(prepare), has_values=fitted.train.scale is not None)
        return LiveReading(recipe, float(fitted.typical_value) if prepare.transform else None)


@dataclass(frozen=True, eq=False)
class RememberedLookups(StoredLookups):
    """Looks each thing up once, for shelves that are built one after the other and have to see the same cells.

    To be dropped when they are built: what changes later is not seen.
    """

    _models: dict[str, Fitted] = field(default_factory=dict)
    _tables: dict[int, ShelfTables] = field(default_factory=dict)
    _tables_of_models: dict[str, ShelfTables] = field(default_factory=dict)
    _readings: dict[str, LiveReading] = field(default_factory=dict)

    @classmethod
    def from_lookups(cls, lookups: StoredLookups) -> RememberedLookups:
        """Return lookups that remember what these find."""
        return cls(lookups.engine, lookups.library, lookups.live)

    def model(self, name: str) -> Fitted:
        """Return a model by its name. Raises UnknownNameError."""
        if name not in self._models:
            self._models[name] = super().model(name)
        return self._models[name]

    def tables(self, main: Fitted) -> ShelfTables:
        """Return the tables that go with a model."""
        if main.name not in self._tables_of_models:
            self._tables_of_models[main.name] = super().tables(main)
        return self._tables_of_models[main.name]

    def tables_of_version(self, version_id: int) -> ShelfTables:
        """Return the tables of a version, the same objects for every model of it."""
        if version_id not in self._tables:
            self._tables[version_id] = super().tables_of_version(version_id)
        return self._tables[version_id]

    def reading(self, fitted: Fitted) -> LiveReading:
        """Return how a model's preparation reads events."""
        if fitted.name not in self._readings:
            self._readings[fitted.name] = super().reading(fitted)
        return self._readings[fitted.name]


def load_shelf(lookups: StoredLookups, reference: str) -> LoadedShelf:
    """Return a version of a shelf, ready to answer. Raises UnknownNameError, InputError."""

    def version(name: str) -> LoadedShelf:
        with lookups.engine.begin() as connection:
            record = shelves.get(connection, name)
        return build(ShelfBuilder(lookups, record.spec, {}), record.number, version)

    return version(reference)


def _nothing_past() -> PastRows:
    raise InputError("a model that was brought in without its data has no histories", where="where")
