"""How many items pass the stages of one list, and how long each takes."""

from __future__ import annotations

import time
from typing import Any


class StageTimes:
    """Counts and times of the stages of one list."""

    def __init__(self) -> None:
        self._noted: list[tuple[str, int, float]] = []
        self._begun = time.perf_counter()

    def note(self, stage: str, items: int) -> None:
        """End a stage."""
        self._noted.append((stage, items, time.perf_counter()))

    def seconds(self) -> list[tuple[str, float]]:
        """How long each stage took."""
        ends = [self._begun, *(ended for _, _, ended in self._noted)]
        return [(stage, ends[at + 1] - ends[at]) for at, (stage, _, _) in enumerate(self._noted)]

    def rows(self) -> list[dict[str, Any]]:
        """The stages so far: the fields of `Stage`."""
        before = self._begun
        stages: list[dict[str, Any]] = []
        for stage, items, ended in self._noted:
            stages.append({"stage": stage, "items": items, "milliseconds": round((ended - before) * 1000, 3)})
            before = ended
        return stages


class Untimed(StageTimes):
    """For a list whose stages nobody asks for."""

    def note(self, stage: str, items: int) -> None:
        """Nothing."""


UNTIMED = Untimed()
