"""Forgetting a user: their rows leave every version of a dataset, at once and whole, and the old files are removed."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import polars as pl
import pyarrow.parquet as pq

from gleaner.core.data.profile import profile
from gleaner.core.errors import ConflictError, UnknownNameError
from gleaner.jobs.datasets.content_hash import ContentHash
from gleaner.jobs.datasets.findings import count
from gleaner.jobs.datasets.import_rows import ROWS_PER_GROUP
from gleaner.jobs.datasets.import_side_tables import hash_table
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, datasets, events, jobs, live_columns, models, served_lists
from gleaner.store.datasets import Rewritten, VersionFiles
from gleaner.store.files.artefacts import Artefact, release
from gleaner.store.files.models import load_matrix
from gleaner.wire.datasets import Profile
from gleaner.wire.imports import ImportReport


@dataclass
class RemovedRows:
    """What was removed so far."""

    rows: int = 0


def run(context: JobContext) -> dict[str, Any]:
    """Rewrite every version that has the user, then swap all of them in one transaction. Names no id in its outcome."""
    dataset, user = context.claim.subject, context.claim.payload["user"]
    with context.engine.begin() as connection:
        versions = datasets.live_files(connection, dataset)
        reports = {files.id: datasets.version(connection, files.name).report for files in versions}
        trained = models.files_of_dataset(connection, dataset)
    removed, rewritten, old = RemovedRows(), [], set()
    for place, files in enumerate(versions):
        context.require_going(place / max(1, len(versions)), f"looking through {files.name}")
        done = _without(context, files, user, reports[files.id], removed)
        if done:
            rewritten.append(done)
            old |= _digests(files)
    context.require_going(0.9, "looking through the figures of contests")
    with context.engine.begin() as connection:
        figures = contests.per_user_files(connection, dataset)
    smaller = {standing: _figures_without(context, digest, user) for standing, digest in figures.items()}
    old |= {figures[standing] for standing, artefact in smaller.items() if artefact}
    context.require_going(0.95, "finding the models that saw the user")
    saw = [
        model.name for model in trained if load_matrix(context.artefacts, model.matrix_file).users.row(user) is not None
    ]
    with context.engine.begin() as connection:
        dataset_id = datasets.id_of(connection, dataset)
        has_events = events.has_user(connection, dataset_id, user)
    if not rewritten and not saw and not has_events:
        raise UnknownNameError(f"no version of {dataset} has this user, and no model saw them", where="user")
    names = {files.id: files.name for files in versions}
    result: dict[str, Any] = {"rows": removed.rows, "versions": [names[done.id] for done in rewritten], "models": saw}
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        for done in rewritten:
            datasets.rewrite(connection, done)
        for standing, artefact in smaller.items():
            if artefact:
                contests.replace_per_user_file(connection, standing, artefact)
        result["lists"] = served_lists.forget_user(connection, user)
        result["events"] = events.forget_user(connection, dataset_id, user)
        live_columns.forget_user(connection, dataset_id, user)
        models_text = f"{len(saw)} models saw them: {', '.join(saw)}" if saw else "no model saw them"
        rows_text = f"{count(removed.rows, 'row')} removed from {count(len(rewritten), 'version')}"
        others = f"{count(result['events'], 'event')} and {count(result['lists'], 'served list')}"
        text = f"{rows_text}, {others}; {models_text}"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    # after the commit: a crash before this leaves files that nothing points at, which the next start removes
    with context.engine.begin() as connection:
        released = release(connection, sorted(old))
    context.artefacts.remove_files(released)
    return result


def _digests(files: VersionFiles) -> set[str]:
    return {digest for name in datasets.FILES if (digest := getattr(files, f"{name}_file"))}


def _without(
    context: JobContext, files: VersionFiles, user: str, report: ImportReport, removed: RemovedRows
) -> Rewritten | None:
    """A version's files without a user; None where the user is in none of them."""
    source = context.artefacts.local_path(files.interactions_file)
    here = pl.scan_parquet(source).filter(pl.col("user") == user).select(pl.len()).collect(engine="streaming").item()
    users = None if files.users_file is None else pl.read_parquet(context.artefacts.local_path(files.users_file))
    in_table = users is not None and bool((users["id"] == user).any())
    if not here and not in_table:
        return None
    content = ContentHash()
    out = context.staging / f"version-{files.id}.parquet"
    left = _copy_without(source, out, user, content)
    if not left:
        raise ConflictError(f"{files.name} holds nobody else; remove the version instead", where="user")
    profiled = profile(pl.scan_parquet(out))
    artefacts: dict[str, Artefact | None] = {"interactions": context.artefacts.put(out, "parquet")}
    items = None if files.items_file is None else pl.read_parquet(context.artefacts.local_path(files.items_file))
    users = None if users is None else users.filter(pl.col("id") != user)
    for role, frame in (("item", items), ("user", users)):
        if frame is not None:
            content.add(hash_table(frame, role))
    if users is not None:
        artefacts["users"] = _put(context, users, f"users-{files.id}")
    artefacts["user_activity"] = _put(context, profiled.users, f"user-activity-{files.id}")
    artefacts["item_activity"] = _put(context, profiled.items, f"item-activity-{files.id}")
    removed.rows += here
    for finding in report.findings:
        finding.examples = [text for text in finding.examples if user not in text]
    for file in report.files:
        for dropped in file.dropped:
            dropped.examples = [text for text in dropped.examples if user not in text]
    facts = Profile.model_validate(profiled.facts)
    return Rewritten(files.id, content.hexdigest(), facts, report, artefacts, files.interactions_file)


def _figures_without(context: JobContext, digest: str, user: str) -> Artefact | None:
    """A contender's figures per user without one; None where the user is not among them. The means stay."""
    frame = pl.read_parquet(context.artefacts.local_path(digest))
    left = frame.filter(pl.col("user") != user)
    return _put(context, left, f"figures-{digest[:12]}") if left.height < frame.height else None


def _copy_without(source: Path, out: Path, user: str, content: ContentHash) -> int:
    file, rows = pq.ParquetFile(source), 0
    dictionaries = [name for name in ("user", "item", "kind", "part") if name in file.schema_arrow.names]
    with pq.ParquetWriter(out, file.schema_arrow, compression="zstd", use_dictionary=dictionaries) as writer:
        for batch in file.iter_batches(ROWS_PER_GROUP):
            kept = pl.DataFrame(pl.from_arrow(batch)).filter(pl.col("user") != user)
            content.add(kept)
            rows += kept.height
            table = kept.to_arrow(compat_level=pl.CompatLevel.oldest()).cast(file.schema_arrow)
            writer.write_table(table, row_group_size=ROWS_PER_GROUP)
    return rows


def _put(context: JobContext, frame: pl.DataFrame, name: str) -> Artefact:
    path = context.staging / f"{name}.parquet"
    frame.write_parquet(path, compression="zstd")
    return context.artefacts.put(path, "parquet")
