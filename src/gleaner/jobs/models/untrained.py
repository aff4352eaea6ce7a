"""Untrained cells of stored models: what their data version holds beyond their training matrix."""

from __future__ import annotations

from sqlalchemy import Engine

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.untrained_cells import NOTHING_UNTRAINED, UntrainedCells, UntrainedLookup
from gleaner.core.errors import ConflictError
from gleaner.core.preparation.untrained import trains_on_every_cell, untrained_cells
from gleaner.jobs.contests.declarations import preparation_of
from gleaner.store import datasets, models
from gleaner.store.files.artefacts import ArtefactStore
from gleaner.store.files.interactions import read_rows
from gleaner.store.models import ModelFiles
from gleaner.wire.contests.contest import PrepareSpec


def untrained_lookup(
    engine: Engine, artefacts: ArtefactStore, files: ModelFiles, train: InteractionMatrix
) -> UntrainedLookup:
    """Return what a model's data version holds beyond its training matrix. Nothing is read before its first use."""
    version_id = files.version_id
    if version_id is None:
        return NOTHING_UNTRAINED

    def load() -> UntrainedCells:
        with engine.begin() as connection:
            try:
                datasets.require_data(connection, version_id)
            except ConflictError:
                # the version was removed by force, and the model answers from what it learned
                return UntrainedCells.empty()
            record = models.get(connection, files.name)
            interactions = datasets.files_by_id(connection, version_id).interactions_file
        how = preparation_of(PrepareSpec.model_validate(record.prepare))
        if files.is_on_all_rows and trains_on_every_cell(how, has_values=train.scale is not None):
            return UntrainedCells.empty()
        return untrained_cells(read_rows(artefacts.local_path(interactions)), how, train)

    return UntrainedLookup(load)
