"""The item and user tables of a version, as features of whatever a model is fitted on."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.side import Features, features_of
from gleaner.core.models.base.protocol import Model
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets


@dataclass(eq=False)
class SideTables:
    """Read when a model first asks for them, encoded once for each set of users and items."""

    context: JobContext
    files: datasets.VersionFiles
    _read: tuple[pl.DataFrame | None, pl.DataFrame | None] | None = None
    _types: dict[str, dict[str, str]] = field(default_factory=dict)
    _made: list[tuple[InteractionMatrix, Features]] = field(default_factory=list)

    def for_model(self, model: Model, train: InteractionMatrix) -> Features | None:
        """The features of the users and items of a matrix; None for a model that takes none."""
        if not model.takes_features:
            return None
        for known, features in self._made:
            if known.items is train.items and known.users is train.users:
                return features
        if self._read is None:
            self._read = self._open(self.files.items_file), self._open(self.files.users_file)
            with self.context.engine.begin() as connection:
                version = datasets.version(connection, self.files.name)
            self._types = {
                "items": {each.name: each.type for each in version.item_columns},
                "users": {each.name: each.type for each in version.user_columns},
            }
        made = features_of(train.items, train.users, *self._read, self._types)
        self._made.append((train, made))
        return made

    def _open(self, file: str | None) -> pl.DataFrame | None:
        return None if file is None else pl.read_parquet(self.context.artefacts.local_path(file))
