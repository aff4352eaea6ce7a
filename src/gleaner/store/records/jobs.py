"""Jobs and the lines of their logs."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from gleaner.wire.common import Problem
from gleaner.wire.jobs import JobState


@dataclass(frozen=True, kw_only=True)
class JobRecord:
    """One job. seconds_left: an estimate from the progress so far, while it runs."""

    id: int
    kind: str
    subject: str
    state: JobState
    progress: float
    message: str
    attempt: int
    created_at: datetime
    started_at: datetime | None
    finished_at: datetime | None
    seconds_left: float | None
    peak_memory_mb: float | None
    cancel_requested: bool
    result: dict[str, Any] | None
    problem: Problem | None


@dataclass(frozen=True)
class JobLogRecord:
    """One line of a job's log."""

    at: datetime
    text: str


@dataclass(frozen=True, kw_only=True)
class LoggedJobRecord(JobRecord):
    """A job with the last lines of its log."""

    log: list[JobLogRecord]
