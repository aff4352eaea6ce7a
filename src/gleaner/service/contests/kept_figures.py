"""Figures of runs that were worked out once and are looked at often.

A run never changes once it is over; while it goes on, its files do, and so do the keys of what is kept here.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import TypeVar, cast

MOST = 512
"""Answers kept, each of a few kilobytes."""

Answer = TypeVar("Answer")


UNANSWERED = object()
"""No answer yet; None is an answer."""


@dataclass
class _Place:
    """Where an answer goes; its lock lets one caller work it out while others of the same key wait for it."""

    lock: threading.Lock = field(default_factory=threading.Lock)
    answer: object = UNANSWERED


class KeptFigures:
    """The answers that were asked for last, by a key that says all they are made of."""

    def __init__(self, most: int = MOST) -> None:
        self._places: OrderedDict[Hashable, _Place] = OrderedDict()
        self._most = most
        self._lock = threading.Lock()

    def once(self, key: Hashable, work_out: Callable[[], Answer]) -> Answer:
        """The answer of a key, worked out by the first who asks. What work_out raises is raised and not kept."""
        with self._lock:
            place = self._places.setdefault(key, _Place())
            self._places.move_to_end(key)
            while len(self._places) > self._most:
                self._places.popitem(last=False)
        with place.lock:
            if place.answer is UNANSWERED:
                place.answer = work_out()
            return cast(Answer, place.answer)
