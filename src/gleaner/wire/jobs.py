"""Work that runs in a worker."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any, Literal

from pydantic import ConfigDict, Field

from gleaner.wire.common import Message, Problem

JobKind = Literal[
    "import", "split", "contest", "train", "take", "forget", "lists", "score-lists", "analyse-lists", "export",
    "gather", "refresh", "evaluate-shelf",
]  # fmt: skip


class JobState(StrEnum):
    """queued -> running -> done, failed or cancelled. A lost worker puts a running job back to queued."""

    QUEUED = "queued"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"

    @property
    def ended(self) -> bool:
        """Whether nothing more will happen."""
        return self in (JobState.DONE, JobState.FAILED, JobState.CANCELLED)


class Job(Message):
    """One job: what it does, how far it is, what came of it."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "id": 12, "kind": "contest", "subject": "spring-comparison", "state": "running", "progress": 0.42,
                "message": "als: iteration 6 of 15", "attempt": 1, "created_at": "2026-03-01T09:00:00Z",
            }
        }
    )  # fmt: skip

    id: int
    kind: str = Field(description="Such as import, contest or export.")
    subject: str = Field(description="The name of what it works on.")
    state: JobState
    progress: float = Field(ge=0, le=1)
    message: str = ""
    attempt: int = Field(description="How many times a worker has taken it up.")
    created_at: datetime
    started_at: datetime | None = None
    finished_at: datetime | None = None
    seconds_left: float | None = Field(None, description="Estimate from the progress so far, while running.")
    peak_memory_mb: float | None = None
    cancel_requested: bool = False
    result: dict[str, Any] | None = None
    problem: Problem | None = None


class JobLogLine(Message):
    """One line of a job's log."""

    at: datetime
    text: str


class JobDetail(Job):
    """A job with its log."""

    log: list[JobLogLine] = []
