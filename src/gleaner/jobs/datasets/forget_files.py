"""Remove a user from the files that jobs made: lists, exports and analyses."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from gleaner.jobs.worker.context import JobContext
from gleaner.store.files import job_files
from gleaner.store.files.artefacts import Artefact
from gleaner.store.files.job_files import JobFile


def files_without(context: JobContext, dataset: str, user: str) -> dict[JobFile, Artefact]:
    """Write every file of a dataset's jobs that holds the user anew, without them; return the new files by the old.

    Files whose dataset is not known, because its model was removed, are looked through too.
    """
    with context.engine.begin() as connection:
        files = [file for file in job_files.all_files(connection) if file.dataset in (dataset, None)]
    smaller: dict[JobFile, Artefact] = {}
    for index, file in enumerate(files):
        context.require_going(0.9 + 0.05 * index / len(files), f"looking through the file of job {file.job_id}")
        source = context.artefacts.local_path(file.digest)
        out = context.staging / f"file-{file.job_id}-{file.part}"
        if write_without(source, file.format, user, out):
            smaller[file] = context.artefacts.put(out, file.format)
    return smaller


def write_without(source: Path, form: str, user: str, out: Path) -> bool:
    """Write a table file without the rows that name a user. Return False, writing nothing, where no row does."""
    rows = _scan(source, form)
    names = rows.collect_schema().names()
    # lists of similar users name another user in the column `like`, those of similar items an item
    columns = [name for name in names if name == "user" or (name == "like" and "item" not in names)]
    if not columns:
        return False
    # cells that a spreadsheet would run were written with an apostrophe before
    forms = [user, f"'{user}"] if form == "csv" else [user]
    names_user = pl.any_horizontal(pl.col(name).cast(pl.String).is_in(forms).fill_null(False) for name in columns)
    if not rows.select(names_user.any()).collect(engine="streaming").item():
        return False
    others = rows.filter(~names_user)
    match form:
        case "csv":
            others.sink_csv(out)
        case "ndjson":
            others.sink_ndjson(out)
        case _:
            others.sink_parquet(out, compression="zstd")
    return True


def _scan(source: Path, form: str) -> pl.LazyFrame:
    match form:
        case "csv":
            return pl.scan_csv(source, infer_schema=False, raise_if_empty=False)
        case "ndjson":
            return pl.scan_ndjson(source, infer_schema_length=None)
        case _:
            return pl.scan_parquet(source)
