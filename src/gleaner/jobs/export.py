"""The job behind `gleaner export`: one file for another system, written as it is made."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.fitted import Fitted
from gleaner.jobs.context import JobContext
from gleaner.jobs.list_all import AT_ONCE, matching
from gleaner.jobs.model_files import load_model
from gleaner.jobs.row_writer import RowWriter
from gleaner.store import jobs, models
from gleaner.store.artefacts import record
from gleaner.wire.exports import ExportRequest


def run(context: JobContext) -> dict[str, Any]:
    """Write the file, keep it, answer its place and size."""
    asked = ExportRequest.model_validate(context.claim.payload)
    with context.engine.begin() as connection:
        files = models.files(connection, asked.model)
    context.require_going(0.02, "loading the model")
    fitted = load_model(context.artefacts, files)
    listed = "item" if asked.what == "top-items" else "user"
    chosen = None if asked.where is None else matching(context, files.version_id, listed, asked.where)
    path = context.staging / f"export.{asked.format}"
    with RowWriter(path, asked.format) as writer:
        for frame in _frames(context, fitted, asked, chosen):
            writer.write(frame)
    artefact = context.artefacts.put(path, asked.format)
    result = {
        "model": fitted.name, "what": asked.what, "rows": writer.rows, "bytes": artefact.bytes, "file": artefact.sha256,
        "format": asked.format,
    }  # fmt: skip
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        record(connection, artefact)
        text = f"{fitted.name}: {asked.what}, {writer.rows:,} rows"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def _frames(
    context: JobContext, fitted: Fitted, asked: ExportRequest, chosen: list[str] | None
) -> Iterator[pl.DataFrame]:
    """Rows of so many owners at a time: memory stays the same however many there are."""
    by_item = asked.what == "top-users"
    owners = (fitted.train.items if by_item else fitted.train.users).ids.to_pylist()
    if asked.what == "affinity" and chosen is not None:
        wanted = set(chosen)
        owners = [user for user in owners if user in wanted]
    # a column for each item, and never all items of all users
    scores = fitted.model.item_scores(fitted.train.items.rows(asked.items)) if asked.what == "affinity" else None
    for lo in range(0, max(1, len(owners)), AT_ONCE):
        context.require_going(0.05 + 0.9 * lo / max(1, len(owners)), f"{lo:,} of {len(owners):,}")
        some = owners[lo : lo + AT_ONCE]
        if scores is not None:
            yield _affinity(fitted, some, scores, asked)
        elif by_item:
            yield fitted.audience(some, asked.n, include_known=asked.include_known, candidates=chosen)
        else:
            yield fitted.recommend(some, asked.n, include_known=asked.include_known, candidates=chosen)


def _affinity(fitted: Fitted, users: list[str], by_item: np.ndarray, asked: ExportRequest) -> pl.DataFrame:
    """A row for each user, a column for each item: the model's score, empty where the user has the item. by_item:
    scores of every user, float32 (n_items, n_users)."""
    rows, columns = fitted.train.users.rows(users), fitted.train.items.rows(asked.items)
    scores = by_item.T[rows]
    if not asked.include_known:
        for place, row in enumerate(rows):
            scores[place, np.isin(columns, fitted.train.history(int(row))[0])] = np.nan
    named = {item: scores[:, place].astype(np.float32) for place, item in enumerate(asked.items)}
    return pl.DataFrame({"user": pl.Series(users, dtype=pl.String)} | named).with_columns(
        pl.col(pl.Float32).fill_nan(None)
    )
