"""Forget a user: their rows leave every version of a dataset, at once and whole, and the old files are removed."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import polars as pl
import pyarrow.parquet as pq

from gleaner.core.data.profile import profile
from gleaner.core.errors import ConflictError, MadeMeanwhileError, UnknownNameError
from gleaner.jobs.datasets.content_hash import ContentHash
from gleaner.jobs.datasets.findings import count
from gleaner.jobs.datasets.forget_files import files_without
from gleaner.jobs.datasets.import_rows import ROWS_PER_GROUP
from gleaner.jobs.datasets.import_side_tables import hash_table
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, datasets, events, jobs, live_columns, models, served_lists
from gleaner.store.datasets import Rewritten, VersionFiles
from gleaner.store.files import job_files
from gleaner.store.files.artefacts import Artefact, release
from gleaner.store.files.models import load_matrix
from gleaner.wire.datasets import Profile
from gleaner.wire.imports import ImportReport
from gleaner.wire.jobs import JobState

LOOK_S = 0.5
MAX_PASSES = 20


@dataclass
class Forgotten:
    """What was removed of a user so far.

    models: those that learned from the user's rows; they keep working.
    files: files of jobs that were written anew.
    sent: where exports were sent to that the user may be in; those files are out of reach.
    """

    rows: int = 0
    events: int = 0
    lists: int = 0
    files: int = 0
    versions: list[str] = field(default_factory=list)
    models: list[str] = field(default_factory=list)
    sent: list[str] = field(default_factory=list)

    @property
    def is_anything(self) -> bool:
        """Whether anything of the user was found."""
        return bool(self.versions or self.models or self.events or self.files)

    def __str__(self) -> str:
        models_text = f"{len(self.models)} models saw them: {', '.join(self.models)}" if self.models else ""
        rows_text = f"{count(self.rows, 'row')} removed from {count(len(self.versions), 'version')}"
        others = f"{count(self.events, 'event')}, {count(self.lists, 'served list')}"
        files_text = f"{count(self.files, 'file')} of jobs written without them"
        text = f"{rows_text}, {others}, {files_text}; {models_text or 'no model saw them'}"
        return f"{text}; exports sent elsewhere may name them: {', '.join(self.sent)}" if self.sent else text


def run(context: JobContext) -> dict[str, Any]:
    """Remove a user from everything that is kept of a dataset. Name no id in the outcome.

    Jobs that were running may have read the user's rows before they went. Once those have ended, what they made is
    looked through too, until nothing is found.
    """
    dataset, user = context.claim.subject, context.claim.payload["user"]
    forgotten = Forgotten()
    _pass(context, dataset, user, forgotten)
    if not forgotten.is_anything and context.claim.attempt == 1:
        raise UnknownNameError(f"no version of {dataset} has this user, and no model saw them", where="user")
    for _ in range(MAX_PASSES):
        with context.engine.begin() as connection:
            running = jobs.running_on(connection, dataset, but=context.claim.id)
        if running:
            _wait_for(context, running)
        # also without any: one may have ended after its results were looked for and before the rows went
        if not _pass(context, dataset, user, forgotten):
            break
    with context.engine.begin() as connection:
        forgotten.sent = jobs.exports_sent(connection, dataset)
        result = vars(forgotten)
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=str(forgotten))
    return result


def _wait_for(context: JobContext, running: list[int]) -> None:
    """Wait until these attempts at jobs have ended."""
    while True:
        with context.engine.begin() as connection:
            still = [job_id for job_id in running if jobs.get(connection, job_id).state is JobState.RUNNING]
        if not still:
            return
        shown = ", ".join(map(str, still[:5]))
        context.require_going(0.96, f"waiting for jobs that may have read the user's rows: {shown}")
        time.sleep(LOOK_S)


def _pass(context: JobContext, dataset: str, user: str, forgotten: Forgotten) -> bool:
    """Remove the user from everything that is kept now. Return whether anything was found."""
    for tries_left in reversed(range(MAX_PASSES)):
        try:
            return _swap(context, dataset, user, forgotten)
        except MadeMeanwhileError as error:
            if not tries_left:
                raise
            context.log(f"{error.message}; looking again")
    return False


def _swap(context: JobContext, dataset: str, user: str, forgotten: Forgotten) -> bool:
    """Look through everything once, and swap what holds the user in one transaction. Return whether anything did.

    Raises MadeMeanwhileError where a version was rewritten or removed in between.
    """
    found = Forgotten()
    with context.engine.begin() as connection:
        versions = datasets.live_files(connection, dataset)
        reports = {files.id: datasets.version(connection, files.name).report for files in versions}
        trained = models.files_of_dataset(connection, dataset)
        figures = contests.per_user_files(connection, dataset)
        dataset_id = datasets.id_of(connection, dataset)
    rewritten, old = [], set[str]()
    for index, files in enumerate(versions):
        context.require_going(0.85 * index / max(1, len(versions)), f"looking through {files.name}")
        done = _without(context, files, user, reports[files.id], found)
        if done:
            rewritten.append(done)
            old |= _digests(files)
    context.require_going(0.85, "looking through the figures of contests")
    smaller = {standing: _figures_without(context, digest, user) for standing, digest in figures.items()}
    old |= {figures[standing] for standing, artefact in smaller.items() if artefact}
    smaller_files = files_without(context, dataset, user)
    old |= {file.digest for file in smaller_files}
    context.require_going(0.95, "finding the models that saw the user")
    saw = [
        model.name for model in trained if load_matrix(context.artefacts, model.matrix_file).users.row(user) is not None
    ]
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        # first the lock: whoever records a version meanwhile waits, and then reads again
        n_events = events.forget_user(connection, dataset_id, user)
        if datasets.live_files(connection, dataset) != versions:
            raise MadeMeanwhileError(f"a version of {dataset} was made or removed meanwhile", where="user")
        for done in rewritten:
            datasets.rewrite(connection, done)
        for standing, artefact in smaller.items():
            if artefact:
                contests.replace_per_user_file(connection, standing, artefact)
        for file, artefact in smaller_files.items():
            job_files.replace(connection, file, artefact)
        n_lists = served_lists.forget_user(connection, user)
        live_columns.forget_user(connection, dataset_id, user)
    # after the commit: a crash before this leaves files that nothing points at, which the next start removes
    with context.engine.begin() as connection:
        released = release(connection, sorted(old))
    context.artefacts.remove_files(released)
    names = {files.id: files.name for files in versions}
    forgotten.versions += [names[done.id] for done in rewritten if names[done.id] not in forgotten.versions]
    forgotten.models += [name for name in saw if name not in forgotten.models]
    forgotten.rows += found.rows
    forgotten.events += n_events
    forgotten.lists += n_lists
    forgotten.files += len(smaller_files)
    return bool(rewritten or smaller_files or n_events or n_lists or any(smaller.values()))


def _digests(files: VersionFiles) -> set[str]:
    return {digest for name in datasets.FILES if (digest := getattr(files, f"{name}_file"))}


def _without(
    context: JobContext, files: VersionFiles, user: str, report: ImportReport, forgotten: Forgotten
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
    forgotten.rows += here
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
