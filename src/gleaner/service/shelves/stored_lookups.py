"""What shelves are built of, looked up in the store: models, tables with what changed since, and what events weigh."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Engine

from gleaner.core.data.live import LiveRows
from gleaner.core.data.past import PastRows
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.preparation.live_cells import LiveReading
from gleaner.core.preparation.recipe import Recipe
from gleaner.jobs.contests.declarations import preparation_of
from gleaner.service.events.live import LiveEvents
from gleaner.service.models.model_cache import ModelCache
from gleaner.serving.building import ShelfTables
from gleaner.serving.conditions import KnownUsers
from gleaner.serving.tables import ItemTable
from gleaner.store import datasets, live_columns, models
from gleaner.wire.contests.contest import PrepareSpec


@dataclass(frozen=True, eq=False)
class StoredLookups:
    """Looks things up where they are kept."""

    engine: Engine
    library: ModelCache
    live: LiveEvents

    def model(self, name: str) -> Fitted:
        """A model by its name. Raises UnknownNameError."""
        return self.library.model(name)

    def tables(self, main: Fitted) -> ShelfTables:
        """The items and users of the version that a model was trained on, with what changed since, and its dataset."""
        with self.engine.begin() as connection:
            version_id = models.files(connection, main.name).version_id
            if version_id is None:
                return ShelfTables(ItemTable(None), KnownUsers(ItemTable(None), [], _nothing_past, LiveRows()))
            kinds = datasets.kinds_by_id(connection, version_id)
            dataset_id, made_at = datasets.dataset_and_time(connection, version_id)
            upto = datasets.files_by_id(connection, version_id).events_upto
            changed = {side: live_columns.cells_of(connection, dataset_id, side) for side in ("item", "user")}
        whole = self.library.items_of_version(version_id), self.library.users_of_version(version_id)
        items, users = (
            table.changed((cell.row_id, cell.name, cell.value) for cell in changed[side] if cell.at > made_at)
            for side, table in zip(("item", "user"), whole, strict=True)
        )
        past = lambda: self.library.past(version_id)  # noqa: E731
        return ShelfTables(items, KnownUsers(users, kinds, past, self.live.rows(dataset_id), upto), dataset_id)

    def reading(self, fitted: Fitted) -> LiveReading:
        """How a model's preparation reads events."""
        with self.engine.begin() as connection:
            prepare = PrepareSpec.model_validate(models.get(connection, fitted.name).prepare)
        recipe = Recipe.of(preparation_of(prepare), has_values=fitted.train.scale is not None)
        return LiveReading(recipe, float(fitted.typical_value) if prepare.transform else None)


def _nothing_past() -> PastRows:
    raise InputError("a model that was brought in without its data has no histories", where="where")
