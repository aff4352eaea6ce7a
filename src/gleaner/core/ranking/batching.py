"""Work that is done together by those who ask for it at the same time."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Generic, TypeVar

A = TypeVar("A")
R = TypeVar("R")
MOST = 64
"""Asked for together at most."""

PAUSES = 3
"""Waited for others at most: each is a delay to whoever came first."""


@dataclass(eq=False)
class _PendingRequest(Generic[A, R]):
    what: A
    turn: threading.Event = field(default_factory=threading.Event)
    leads: bool = False
    answer: R | None = None
    error: BaseException | None = None


class Batcher(Generic[A, R]):
    """Whoever asks while nobody works begins, after a moment in which others may join; those who ask meanwhile wait,
    and the first of them then works for all. So many cost little more than one."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._waiting: list[_PendingRequest[A, R]] = []
        self._busy = False

    def submit(self, what: A, work: Callable[[list[A]], Sequence[R]], pause_s: float = 0.0) -> R:
        """The answer. work: answers several, in their order; what it raises is raised by everyone it was to answer.
        pause_s: who finds nobody at work waits for others as long as some came within so much, at most PAUSES times."""
        mine: _PendingRequest[A, R] = _PendingRequest(what)
        with self._lock:
            self._waiting.append(mine)
            mine.leads = not self._busy
            self._busy = True
        if not mine.leads:
            mine.turn.wait()
        elif pause_s:
            self._wait_for_others(pause_s)
        if mine.leads:
            self._lead(work)
        if mine.error is not None:
            raise mine.error
        return mine.answer  # type: ignore[return-value]

    def _wait_for_others(self, pause_s: float) -> None:
        nothing = threading.Event()
        for _ in range(PAUSES):
            came = len(self._waiting)
            nothing.wait(pause_s)
            if len(self._waiting) == came:
                return

    def _lead(self, work: Callable[[list[A]], Sequence[R]]) -> None:
        with self._lock:
            taken, self._waiting = self._waiting[:MOST], self._waiting[MOST:]
        try:
            for each, answer in zip(taken, work([each.what for each in taken]), strict=True):
                each.answer = answer
        except BaseException as error:
            for each in taken:
                each.error = error
        finally:
            with self._lock:
                # of those that came meanwhile the first goes on
                follower = self._waiting[0] if self._waiting else None
                self._busy = follower is not None
                if follower is not None:
                    follower.leads = True
            for each in taken:
                each.turn.set()
            if follower is not None:
                follower.turn.set()
