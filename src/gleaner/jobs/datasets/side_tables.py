"""The item and user tables of a version, for models that take features and metrics that compare content."""

from __future__ import annotations

import polars as pl

from gleaner.core.contests.side_tables import SideTables, TableFrames
from gleaner.core.data.tables.text_encoders import TextEncoders
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets


def side_tables(context: JobContext, files: datasets.VersionFiles) -> SideTables:
    """Read when they are first asked for."""

    def read(file: str | None) -> pl.DataFrame | None:
        return None if file is None else pl.read_parquet(context.artefacts.local_path(file))

    def frames() -> TableFrames:
        with context.engine.begin() as connection:
            version = datasets.version(connection, files.name)
        return TableFrames(
            read(files.items_file),
            read(files.users_file),
            {each.name: each.type for each in version.item_columns},
            {each.name: each.type for each in version.user_columns},
        )

    return SideTables(frames, TextEncoders(context.settings.text_encoder_root))
