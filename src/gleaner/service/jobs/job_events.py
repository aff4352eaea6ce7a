"""Wakes those who follow a job when the database says that it changed."""

from __future__ import annotations

import asyncio
from collections import defaultdict

RECHECK_S = 2.0


class JobEvents:
    """One event per follower; all asyncio, called from the listener's thread through `fire_threadsafe`."""

    def __init__(self) -> None:
        self._followers: dict[int, set[asyncio.Event]] = defaultdict(set)
        self._loop: asyncio.AbstractEventLoop | None = None

    def bind(self, loop: asyncio.AbstractEventLoop) -> None:
        """Say on which loop followers wait."""
        self._loop = loop

    def fire_threadsafe(self, job_id: int) -> None:
        """A job changed."""
        if self._loop and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._fire, job_id)

    def follow(self, job_id: int) -> asyncio.Event:
        """An event that is set when the job changes."""
        event = asyncio.Event()
        self._followers[job_id].add(event)
        return event

    def leave(self, job_id: int, event: asyncio.Event) -> None:
        """Stop following."""
        self._followers[job_id].discard(event)
        if not self._followers[job_id]:
            del self._followers[job_id]

    async def changed(self, event: asyncio.Event) -> None:
        """Wait for a change, or a moment, since a notification can be lost with its connection."""
        try:
            await asyncio.wait_for(event.wait(), RECHECK_S)
        except TimeoutError:
            return
        event.clear()

    def _fire(self, job_id: int) -> None:
        for event in self._followers.get(job_id, ()):
            event.set()
