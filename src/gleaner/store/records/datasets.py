"""Datasets and their versions."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from gleaner.wire.datasets import Profile, TableColumn
from gleaner.wire.imports import ImportReport, Roles


@dataclass(frozen=True, kw_only=True)
class VersionSummaryRecord:
    """One version in a list. base: the version whose rows it was added to. forgotten: users forgotten since."""

    name: str
    dataset: str
    number: int
    created_at: datetime
    content_hash: str
    rows: int
    users: int
    items: int
    base: str | None
    forgotten: int


@dataclass(frozen=True, kw_only=True)
class VersionRecord(VersionSummaryRecord):
    """One version with everything kept about it. parts: rows by part, where files were split beforehand."""

    roles: Roles
    item_columns: list[TableColumn]
    user_columns: list[TableColumn]
    context_columns: list[TableColumn]
    parts: dict[str, int]
    scale: tuple[float, float] | None
    report: ImportReport
    profile: Profile


@dataclass(frozen=True)
class DatasetRecord:
    """A dataset and its versions that were not removed, newest first."""

    name: str
    created_at: datetime
    versions: list[VersionSummaryRecord]


@dataclass(frozen=True)
class RemovedVersionRecord:
    """A version whose data was taken away, and the models that had learned from it."""

    version: str
    models: list[str]
