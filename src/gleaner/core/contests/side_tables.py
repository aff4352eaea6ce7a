"""What the items and users of a dataset are, for models that take features and metrics that compare content."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features, features_of
from gleaner.core.data.tables.text_encoders import NO_TEXT_ENCODERS, TextEncoders
from gleaner.core.errors import DataError
from gleaner.core.metrics.content import content_of
from gleaner.core.metrics.exposure import ContentVectors
from gleaner.core.models.base.capabilities import taking_features
from gleaner.core.models.base.protocol import Model

NO_TABLE = "the item table is needed for rank.content and rank.categories, and the data came without one"


@dataclass(frozen=True, eq=False)
class TableFrames:
    """The item and the user table, each with a column `id`, and the types of their columns by name; None: the types
    were not declared, so cells are looked at."""

    items: pl.DataFrame | None = None
    users: pl.DataFrame | None = None
    item_types: dict[str, str] | None = None
    user_types: dict[str, str] | None = None


@dataclass(eq=False)
class SideTables:
    """The tables of a dataset: read when they are first asked for, encoded once for each set of users and items."""

    read: Callable[[], TableFrames] = TableFrames
    text_encoders: TextEncoders = NO_TEXT_ENCODERS
    _encoded: list[tuple[InteractionMatrix, dict[str, np.ndarray], Features]] = field(default_factory=list)

    @cached_property
    def frames(self) -> TableFrames:
        """The tables, read."""
        return self.read()

    def for_model(self, model: Model, train: InteractionMatrix) -> Features | None:
        """The features of the users and items of a matrix; None for a model that takes none."""
        if taking_features(model) is None:
            return None
        context = () if train.context is None else tuple(train.context.columns)
        return replace(self._encoded_for(train), context=context, text_encoders=self.text_encoders)

    def _encoded_for(self, train: InteractionMatrix) -> Features:
        """What encoding learns it learns from rows that have interactions in training."""
        met = {"items": train.item_counts > 0, "users": np.diff(train.indptr) > 0}
        for known, known_met, features in self._encoded:
            same = known.items is train.items and known.users is train.users
            if same and all(np.array_equal(known_met[side], met[side]) for side in met):
                return features
        frames = self.frames
        declared = {"items": frames.item_types, "users": frames.user_types}
        types = {side: each for side, each in declared.items() if each is not None}
        encoded = features_of(train.items, train.users, frames.items, frames.users, types, met)
        self._encoded.append((train, met, encoded))
        return encoded

    def content(self, items: IdMap, columns: list[str], categories: str | None) -> ContentVectors:
        """What diversity and calibration look at, for the items of a matrix: nothing where no column is named.

        Raises DataError where columns are named and there is no item table.
        """
        if not columns and categories is None:
            return ContentVectors()
        if self.frames.items is None:
            raise DataError(NO_TABLE, where="rank.content")
        return content_of(self.frames.items, items, columns, categories, self.frames.item_types)
