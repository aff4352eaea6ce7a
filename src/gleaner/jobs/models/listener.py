"""A job as the listener of a fit: progress as the job's, rounds as rows."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from gleaner.core.contests.listening import ProgressStretch
from gleaner.core.models.base.watching import TrainingRound
from gleaner.jobs.models.checkpoints import JobCheckpoints
from gleaner.jobs.models.story import round_message
from gleaner.jobs.worker.context import JobContext
from gleaner.jobs.worker.memory import PeakMemory
from gleaner.store import models


@dataclass(eq=False)
class JobFitListener:
    """Passes a fit's progress on to its job."""

    context: JobContext

    def report_progress(self, done: float, message: str) -> bool:
        """Record progress. Answers False to stop."""
        return self.context.report_progress(done, message)

    def log(self, text: str) -> None:
        """Add a line to the job's log."""
        self.context.log(text)

    def clock(self) -> float:
        """Seconds since some moment."""
        return time.perf_counter()

    def memory(self) -> Callable[[], float]:
        """Measure from now on."""
        return PeakMemory().megabytes

    def begin_fit(self, label: str, goal: str) -> None:
        """Drop the rounds of a lost attempt: this one reports them again."""
        if self.context.claim.attempt > 1:
            with self.context.engine.begin() as connection:
                models.drop_rounds(connection, self.context.claim.id, label, goal)

    def end_round(self, label: str, goal: str, done: TrainingRound) -> None:
        """Keep a round."""
        with self.context.engine.begin() as connection:
            models.add_round(connection, self.context.claim.id, label, goal, round_message(done))

    def checkpoints(self, label: str, goal: str) -> JobCheckpoints:
        """In the job's folder."""
        return JobCheckpoints.of(self.context, label, goal)


def progress_stretch(context: JobContext, start: float = 0.0, stop: float = 1.0) -> ProgressStretch:
    """A stretch of a job's progress, for fits."""
    return ProgressStretch(JobFitListener(context), start, stop)
