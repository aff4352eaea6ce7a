"""What a running job knows: its claim, its folder, how to report progress and learn of a cancel."""

from __future__ import annotations

import time
from dataclasses import dataclass, field, replace
from pathlib import Path

from sqlalchemy import Engine

from gleaner.core.errors import CancelledError
from gleaner.settings import Settings
from gleaner.store import jobs
from gleaner.store.files.artefacts import ArtefactStore
from gleaner.store.jobs import Claim

TELL_EVERY_S = 0.25


@dataclass
class JobContext:
    """One attempt at one job. window: the stretch of the progress bar that this part of its work has."""

    claim: Claim
    engine: Engine
    settings: Settings
    artefacts: ArtefactStore
    staging: Path
    window: tuple[float, float] = (0.0, 1.0)
    _told_at: float = field(default=0.0, init=False)
    _going: bool = field(default=True, init=False)
    _message: str = field(default="", init=False)

    def report_progress(self, done: float, message: str) -> bool:
        """Record progress, at most four times a second, or at once for a new message. Answers False to stop."""
        now = time.monotonic()
        if now - self._told_at >= TELL_EVERY_S or message != self._message:
            self._told_at, self._message = now, message
            start, stop = self.window
            done = start + (stop - start) * done
            with self.engine.begin() as connection:
                self._going = jobs.advance(connection, self.claim, done, message)
        return self._going

    def require_going(self, done: float, message: str) -> None:
        """Record progress. Raises CancelledError when the job should stop."""
        if not self.report_progress(done, message):
            raise CancelledError

    def within(self, start: float, stop: float) -> JobContext:
        """The same attempt, for work that reports its progress as if it were the whole job."""
        return replace(self, window=(start, stop))

    def log(self, text: str) -> None:
        """Add a line to the job's log."""
        with self.engine.begin() as connection:
            jobs.log(connection, self.claim.id, text)

    def part(self, start: float, stop: float, message: str) -> ProgressPart:
        """A stretch of the progress bar."""
        return ProgressPart(self, start, stop, message)


@dataclass(frozen=True)
class ProgressPart:
    """Progress within one stretch; call it with the share done, 0 to 1. Answers False to stop."""

    context: JobContext
    start: float
    stop: float
    message: str

    def __call__(self, share: float) -> bool:
        """Record progress."""
        return self.context.report_progress(self.start + (self.stop - self.start) * share, self.message)
