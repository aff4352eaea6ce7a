"""What a shelf is built of when it is evaluated: models fitted on a training part, and no row of what came after."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from gleaner.core.data.live import LiveRows
from gleaner.core.data.past import PastRows
from gleaner.core.fitted import Fitted
from gleaner.core.preparation.live_cells import LiveReading
from gleaner.serving.building import ShelfBuilder, ShelfTables, build
from gleaner.serving.conditions import KnownUsers
from gleaner.serving.shelf import LoadedShelf
from gleaner.serving.tables import ItemTable
from gleaner.wire.shelves.shelf import ShelfSpec


@dataclass(frozen=True, eq=False)
class TrainingLookups:
    """models: by the names that shelves use. shelves: others that are listed from, by name."""

    models: Mapping[str, Fitted]
    items: ItemTable
    users: ItemTable
    past: PastRows
    shelves: Mapping[str, ShelfSpec]

    def model(self, name: str) -> Fitted:
        """A model by its name."""
        return self.models[name]

    def tables(self, main: Fitted) -> ShelfTables:
        """The tables of the version, and histories of the training part."""
        people = KnownUsers(self.users, self.past.kind_names, lambda: self.past, LiveRows())
        return ShelfTables(self.items, people)

    def reading(self, fitted: Fitted) -> LiveReading:
        """There are no events."""
        return LiveReading()

    def build(self, spec: ShelfSpec) -> LoadedShelf:
        """A shelf that answers. Raises InputError naming what does not fit."""
        return build(ShelfBuilder(self, spec, {}), 0, lambda name: self.build(self.shelves[name]))
