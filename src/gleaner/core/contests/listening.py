"""Who follows the engine's progress: a job, a notebook, or nobody."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from gleaner.core.errors import CancelledError
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.models.base.watching import Checkpoints, HeldOutCells, Judge, TrainingRound, Watch

if TYPE_CHECKING:
    from gleaner.core.contests.results import ContenderResult, TuningAttempt


def _no_clock() -> float:
    return 0.0


class FitListener(Protocol):
    """Follows fits. The listener measures what a fit takes, because the engine has no clock of its own."""

    def report_progress(self, done: float, message: str) -> bool:
        """The share of all the work that is done, 0 to 1, and what is being done. Answers False to stop."""

    def log(self, text: str) -> None:
        """Add a line that is worth keeping."""

    def clock(self) -> float:
        """Seconds since some moment."""

    def memory(self) -> Callable[[], float]:
        """Begin to measure. The function that is answered gives the most memory taken since then, in MB."""

    def begin_fit(self, label: str, goal: str) -> None:
        """A fit of this contender begins."""

    def end_round(self, label: str, goal: str, done: TrainingRound) -> None:
        """One iteration of it is done."""

    def checkpoints(self, label: str, goal: str) -> Checkpoints | None:
        """Where this fit leaves what a later attempt can go on from."""


class ContestListener(FitListener, Protocol):
    """Follows a contest, and keeps what a crash must not lose."""

    def attempts(self, label: str) -> list[TuningAttempt]:
        """The attempts of a contender that are kept already."""

    def keep_attempt(self, label: str, done: TuningAttempt) -> None:
        """Keep one more."""

    def keep(self, result: ContenderResult) -> None:
        """Keep a contender that is done."""


@dataclass(eq=False)
class QuietListener:
    """Keeps nothing. progress: receives the share done and what is being done; answers False to stop."""

    progress: Callable[[float, str], bool] | None = None
    clock: Callable[[], float] = _no_clock
    results: list[ContenderResult] = field(default_factory=list)

    def report_progress(self, done: float, message: str) -> bool:
        """Pass progress on."""
        return self.progress is None or self.progress(done, message)

    def log(self, text: str) -> None:
        """Nothing is kept."""

    def memory(self) -> Callable[[], float]:
        """Nothing is measured."""
        return _no_clock

    def begin_fit(self, label: str, goal: str) -> None:
        """Nothing is kept."""

    def end_round(self, label: str, goal: str, done: TrainingRound) -> None:
        """Nothing is kept."""

    def checkpoints(self, label: str, goal: str) -> None:
        """Nowhere."""

    def attempts(self, label: str) -> list[TuningAttempt]:
        """None were kept."""
        return []

    def keep_attempt(self, label: str, done: TuningAttempt) -> None:
        """Nothing is kept."""

    def keep(self, result: ContenderResult) -> None:
        """Remember it, for whoever asks in the end."""
        self.results.append(result)


@dataclass(frozen=True)
class ProgressStretch:
    """A stretch of the progress: from `start` to `stop` of the whole."""

    listener: FitListener
    start: float = 0.0
    stop: float = 1.0

    def report_progress(self, done: float, message: str) -> bool:
        """The share of this stretch that is done. Answers False to stop."""
        return self.listener.report_progress(self.start + (self.stop - self.start) * done, message)

    def require_going(self, done: float, message: str) -> None:
        """The same. Raises CancelledError to stop."""
        if not self.report_progress(done, message):
            raise CancelledError

    def part(self, start: float, stop: float) -> ProgressStretch:
        """A part of this stretch, from `start` to `stop` of it."""
        width = self.stop - self.start
        return ProgressStretch(self.listener, self.start + width * start, self.start + width * stop)


def watched(
    stretch: ProgressStretch,
    label: str,
    goal: str,
    *,
    held_out: HeldOutCells | None = None,
    judge: Judge | None = None,
    decide_by: MetricReference | None = None,
    every: int = 1,
    patience: int = 0,
) -> Watch:
    """A watch that reports to the listener: progress with the last losses, and every round. The others: as in Watch."""
    listener, figures = stretch.listener, [""]

    def progress(done: float, iteration: int) -> bool:
        return stretch.report_progress(done, f"{label}: fitting for {goal}, iteration {iteration}{figures[0]}")

    def end_round(done: TrainingRound) -> None:
        texts = [f"{name} loss {value:.4g}" for name, value in done.losses.items()]
        texts += [f"{name} {value:.4f}" for name, value in done.metrics.items()]
        figures[0] = f" ({', '.join(texts)})" if texts else ""
        listener.end_round(label, goal, done)

    listener.begin_fit(label, goal)
    return Watch(
        held_out=held_out,
        progress=progress,
        judge=judge,
        decide_by=decide_by.label if decide_by else "",
        lower_is_better=decide_by is not None and decide_by.sign < 0,
        every=every,
        patience=patience if judge else 0,
        end_round=end_round,
        clock=listener.clock,
        checkpoints=listener.checkpoints(label, goal),
    )
