"""An import while it runs."""

from __future__ import annotations

from dataclasses import dataclass, field

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
    """What a version takes over of what came since its base: changed cells, and events.

    changes_upto: the number of the last change among the cells; None without a base.
    events_upto: the number of the last event among the rows.
    """

    cells: dict[Side, list[Cell]] = field(default_factory=dict)
    changes_upto: int | None = None
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
