"""The job behind `events gather`: the next version of a dataset, its newest with the events and changes since."""

from __future__ import annotations

import secrets
from pathlib import Path
from typing import Any, NamedTuple

import pyarrow as pa
import pyarrow.parquet as pq

from gleaner.jobs.datasets.findings import count
from gleaner.jobs.datasets.import_data import MadeVersion, keep_version, read
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets, events, jobs, live_columns
from gleaner.store.events import StoredEvent
from gleaner.wire.imports import ColumnType, ImportRequest, Roles, Source
from gleaner.wire.names import split_name

CHUNK = 50_000
TYPES = {
    "user": pa.string(),
    "item": pa.string(),
    "kind": pa.string(),
    "value": pa.float64(),
    "time": pa.timestamp("us", "UTC"),
}


def run(context: JobContext) -> dict[str, Any]:
    """Make the version; answers it and how many events it took in."""
    gathered = gather(context, context.claim.subject)
    result = {"version": gathered.version, "events": gathered.events, "changed_rows": gathered.changed_rows}
    with context.engine.begin() as connection:
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=str(gathered))
    return result


class Gathered(NamedTuple):
    """The newest version, and what it took in when it was made now: events, and rows of items and users that had
    changed columns."""

    version: str
    events: int = 0
    changed_rows: int = 0

    def __str__(self) -> str:
        if not (self.events or self.changed_rows):
            return f"nothing came since {self.version}"
        parts = [count(self.events, "event")] if self.events else []
        parts += [f"changed columns of {count(self.changed_rows, 'row')}"] if self.changed_rows else []
        return f"{self.version}: {' and '.join(parts)} taken in"


def gather(context: JobContext, dataset: str) -> Gathered:
    """Return the newest version, made now where there are events or changed columns that none has.

    Where another version is made meanwhile, the events are gathered again, onto that one.
    """
    seen = Gathered("")

    def make() -> MadeVersion | None:
        nonlocal seen
        seen, made = _read(context, dataset)
        return made

    name = keep_version(context, dataset, make, lambda *_: None, follows_newest=True)
    return seen if name is None else seen._replace(version=name)


def _read(context: JobContext, dataset: str) -> tuple[Gathered, MadeVersion | None]:
    """Return the newest version with what came since, and the version to be made of both, if anything came."""
    with context.engine.begin() as connection:
        # before any row is read: whoever is forgotten from now on is noticed when the version is recorded
        times_forgotten = datasets.times_forgotten(connection, dataset)
        newest = datasets.newest(connection, dataset)
        files = datasets.files_by_id(connection, newest.version_id)
        has_kinds = bool(datasets.kinds_by_id(connection, newest.version_id))
        context_columns = datasets.version(connection, newest.name).context_columns
        scale = files.scale
        changed = live_columns.count_rows(connection, newest.dataset_id, newest.changes_upto)
        upto = events.settled_upto(connection)
        upload = f"u-{secrets.token_hex(8)}"
        path = context.settings.uploads / upload
        columns = {role: name for role, name in files.roles.named().items() if role != "kind" or has_kinds}
        names = [each.name for each in context_columns]
        types = {each.name: ColumnType(type=each.type, separator=each.separator) for each in context_columns}
        chunks = events.between(connection, newest.dataset_id, files.events_upto, upto, CHUNK)
        n_events = _write(context, path, columns, names, chunks)
    try:
        if not (n_events or changed):
            return Gathered(newest.name), None
        source = Source(upload=upload, file="events", format="parquet", types=types)
        request = ImportRequest(
            interactions=source if n_events else None,
            roles=Roles(**columns, context=names),
            onto=split_name(newest.name, "dataset version")[1],
            scale=scale,
            outside=None if scale is None else "drop",
        )
        return Gathered(newest.name, n_events, changed), read(context, dataset, request, upto, times_forgotten)
    finally:
        path.unlink(missing_ok=True)


def _write(context: JobContext, path: Path, columns: dict[str, str], beside: list[str], chunks: Any) -> int:
    """Events as a file with the dataset's own names of columns, those of the context as text; answers how many."""
    named = [(name, TYPES[role]) for role, name in columns.items()]
    schema = pa.schema([*named, *((name, pa.string()) for name in beside)])
    n_written = 0
    with pq.ParquetWriter(path, schema) as writer:
        for chunk in chunks:
            writer.write_table(pa.table(_cells(chunk, columns) | _context(chunk, beside), schema))
            n_written += len(chunk)
            context.require_going(0.0, f"reading events, {n_written:,}")
    return n_written


def _cells(chunk: list[StoredEvent], columns: dict[str, str]) -> dict[str, list[Any]]:
    of = {"user": "user", "item": "item", "kind": "kind", "value": "value", "time": "at"}
    return {name: [getattr(event, of[role]) for event in chunk] for role, name in columns.items()}


def _context(chunk: list[StoredEvent], beside: list[str]) -> dict[str, list[str | None]]:
    return {name: [_text((event.context or {}).get(name)) for event in chunk] for name in beside}


def _text(cell: Any) -> str | None:
    """A cell as a file of text would have it."""
    if cell is None or isinstance(cell, str):
        return cell
    return str(cell).lower() if isinstance(cell, bool) else f"{cell:.17g}"
