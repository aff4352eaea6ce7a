"""Best of some turns, work and peer by turns in the same process."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from gleaner.jobs.worker.memory import PeakMemory


@dataclass(frozen=True)
class Bar:
    """What a figure must not pass, on the large world: a ratio to the peer, seconds of the work, its peak memory."""

    ratio: float | None = None
    seconds: float | None = None
    peak_mb: float | None = None
    also: str = ""
    also_holds: bool = True

    def text(self) -> str:
        """As it is shown."""
        parts = (
            None if self.ratio is None else f"{self.ratio:g} x",
            None if self.seconds is None else f"{self.seconds:g} s",
            None if self.peak_mb is None else f"{self.peak_mb:,.0f} MB",
            self.also or None,
        )
        return ", ".join(part for part in parts if part)


@dataclass(frozen=True)
class Result:
    """Seconds and peak memory of the work, seconds of its peer, and the bar to hold."""

    entry: str
    seconds: float
    peak_mb: float
    peer: str
    peer_seconds: float
    note: str
    bar: Bar = Bar()

    @property
    def holds(self) -> bool:
        """Whether the bar is held."""
        figures = (self.ratio, self.bar.ratio), (self.seconds, self.bar.seconds), (self.peak_mb, self.bar.peak_mb)
        return self.bar.also_holds and all(most is None or figure <= most for figure, most in figures)

    @property
    def ratio(self) -> float:
        """How many times its peer the work takes."""
        return self.seconds / self.peer_seconds


def measure(work: Callable[[], object], peer: Callable[[], object], turns: int) -> tuple[float, float, float]:
    """Best seconds of the work, best seconds of the peer, peak MB of the work."""
    best = [float("inf"), float("inf")]
    peak = 0.0
    for _ in range(turns):
        memory = PeakMemory()
        best[0] = min(best[0], seconds_of(work))
        peak = max(peak, memory.of_process())
        best[1] = min(best[1], seconds_of(peer))
    return best[0], best[1], peak


def seconds_of(work: Callable[[], object]) -> float:
    """Seconds of one turn."""
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun
