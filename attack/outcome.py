"""What was tried, what was refused, and what went wrong."""

from __future__ import annotations

import threading
from collections import Counter
from dataclasses import dataclass, field

KEPT = 60
"""Wrong answers of one part that are told."""


@dataclass
class Outcome:
    """Of one part of the campaign. what: the part, with what is counted; notes: figures beside the counts."""

    what: str
    tried: int = 0
    refused: int = 0
    wrong: int = 0
    told: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    _sorts: Counter[str] = field(default_factory=Counter)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def count(self, *, refused: bool = False) -> None:
        """Something was tried, and went as it should."""
        with self._lock:
            self.tried += 1
            self.refused += refused

    def report_progress(self, sort: str, text: str) -> None:
        """Something went wrong. sort: what is told once only."""
        with self._lock:
            self.wrong += 1
            self._sorts[sort] += 1
            if self._sorts[sort] == 1 and len(self.told) < KEPT:
                self.told.append(text)

    @property
    def repeated(self) -> dict[str, int]:
        """How often each sort of wrong answer came."""
        return dict(self._sorts)


def table(outcomes: list[Outcome]) -> str:
    """All parts, a line each, as text."""
    width = max(len(each.what) for each in outcomes)
    lines = [f"{'':{width}}  {'tried':>9}  {'refused':>9}  {'wrong':>6}"]
    for each in outcomes:
        lines.append(f"{each.what:{width}}  {each.tried:>9,}  {each.refused:>9,}  {each.wrong:>6,}")
        lines += [f"{'':{width}}    {note}" for note in each.notes]
    for each in outcomes:
        lines += [f"wrong, {each.what}: {text}" for text in each.told]
    return "\n".join(lines)
