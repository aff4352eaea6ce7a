"""Best of some turns, work and peer by turns in the same process."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from gleaner.jobs.memory import PeakMemory


@dataclass(frozen=True)
class Result:
    """Seconds and peak memory of the work, seconds of its peer."""

    entry: str
    seconds: float
    peak_mb: float
    peer: str
    peer_seconds: float
    note: str

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
        peak = max(peak, memory.megabytes())
        best[1] = min(best[1], seconds_of(peer))
    return best[0], best[1], peak


def seconds_of(work: Callable[[], object]) -> float:
    """Seconds of one turn."""
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun
