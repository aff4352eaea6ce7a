"""An import while it runs."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

import polars as pl

from gleaner.jobs.datasets.content_hash import ContentHash
from gleaner.jobs.datasets.opening import SourceOpener
from gleaner.jobs.worker.context import JobContext
from gleaner.store.datasets import VersionFiles
from gleaner.store.live_columns import Cell, Side
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.imports import FileReport, Finding, ImportRequest


@dataclass(frozen=True)
class TakenOver:
    """What a version that adds to another takes over of what came since: changed cells, and events up to a
    transaction."""

    cells: dict[Side, list[Cell]] = field(default_factory=dict)
    as_of: datetime | None = None
    made_at: datetime | None = None
    events_upto: int = 0


@dataclass
class ImportRun:
    """An import while it runs."""

    context: JobContext
    request: ImportRequest
    opener: SourceOpener
    base: tuple[VersionRecord, VersionFiles] | None
    taken_over: TakenOver
    content: ContentHash = field(default_factory=ContentHash)
    joined: dict[str, pl.DataFrame] = field(default_factory=dict)
    files: list[FileReport] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
