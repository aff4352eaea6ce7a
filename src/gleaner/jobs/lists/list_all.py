"""The job behind `model all`: lists for everybody, written as they are made."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import polars as pl
import pyarrow.parquet as pq

from gleaner.core.data.tables.changed import with_cells
from gleaner.core.errors import InputError
from gleaner.core.ranking.conditions.condition import compile_condition
from gleaner.jobs.lists.everybody import Everybody, everybody, lookups_of
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets, jobs, live_columns, models
from gleaner.store.datasets import dataset_name
from gleaner.store.files import job_files
from gleaner.wire.models.lists import AllRequest

AT_ONCE = 2_000
"""Lists made between two writes: memory stays the same however many there are."""


def run(context: JobContext) -> dict[str, Any]:
    """Make the lists, keep the file, answer its place and size."""
    request = AllRequest.model_validate(context.claim.payload)
    with context.engine.begin() as connection:
        files = models.files(connection, context.claim.subject)
    context.require_going(0.02, "loading the model")
    who = everybody(lookups_of(context), files.name)
    listed = "item" if request.what in ("items", "similar_items") else "user"
    chosen = None if request.where is None else matching(context, files.version_id, listed, request.where)
    path = context.staging / "lists.parquet"
    lists, rows = _write(context, who, request, chosen, path)
    artefact = context.artefacts.put(path, "parquet")
    result = {"model": files.name, "what": request.what, "lists": lists, "rows": rows, "file": artefact.sha256}
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        job_files.add(connection, context.claim.id, "main", artefact, dataset_name(connection, files.version_id))
        text = f"{files.name}: {lists:,} lists of {request.what}"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def matching(context: JobContext, version_id: int | None, side: str, where: str) -> list[str]:
    """Ids of the items, or users, for which a condition holds, with what changed in the columns since."""
    if version_id is None:
        raise InputError("a condition needs columns, and the model came without its data", where="where")
    with context.engine.begin() as connection:
        files = datasets.files_by_id(connection, version_id)
        dataset_id, changes_upto = datasets.dataset_and_changes(connection, version_id)
        changed = live_columns.cells_of(connection, dataset_id, "item" if side == "item" else "user", changes_upto)
    digest = files.items_file if side == "item" else files.users_file
    if digest is None:
        raise InputError(f"a condition needs {side} columns, and {files.name} has none", where="where")
    table = pl.read_parquet(context.artefacts.local_path(digest))
    row_of = {text: row for row, text in enumerate(table["id"].to_list())}
    table, _ = with_cells(table, row_of, ((cell.row_id, cell.name, cell.value) for cell in changed))
    return table.filter(compile_condition(where, dict(table.schema)))["id"].to_list()


def _write(
    context: JobContext, who: Everybody, request: AllRequest, chosen: list[str] | None, path: Path
) -> tuple[int, int]:
    """Lists and rows written."""
    for_users = request.what in ("items", "similar_users")
    # likeness is between training users only
    train = (who.trained if request.what == "similar_users" else who.fitted).train
    owners = (train.users if for_users else train.items).ids.to_pylist()
    lists = rows = 0
    writer = None
    try:
        for lo in range(0, len(owners), AT_ONCE):
            context.require_going(0.05 + 0.9 * lo / len(owners), f"{lo:,} of {len(owners):,} lists")
            frame = _lists(who, request, owners[lo : lo + AT_ONCE], chosen)
            table = frame.to_arrow()
            writer = writer or pq.ParquetWriter(path, table.schema, compression="zstd")
            writer.write_table(table)
            lists += frame[frame.columns[0]].n_unique()
            rows += frame.height
    finally:
        if writer is not None:
            writer.close()
    return lists, rows


def _lists(who: Everybody, request: AllRequest, owners: list[str], chosen: list[str] | None) -> pl.DataFrame:
    more: dict[str, Any] = {"candidates": chosen}
    if request.what == "items":
        return who.fitted.recommend(owners, request.n, include_known=request.include_known, known=who.known, **more)
    if request.what == "users":
        return who.fitted.audience(owners, request.n, include_known=request.include_known, known=who.known, **more)
    return who.trained.similar_all("item" if request.what == "similar_items" else "user", owners, request.n, **more)
