"""Fixtures: one running Gleaner for the session, with the demo run on it."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from hypothesis import settings

from gleaner.demo.full import Demo
from stack import Stack

# the same examples on every run, and no test that depends on the machine's speed
settings.register_profile("gleaner", deadline=None, derandomize=True)
settings.load_profile("gleaner")


@pytest.fixture(scope="session")
def stack() -> Iterator[Stack]:
    """A running Gleaner, quick to notice a lost worker."""
    running = Stack(heartbeat_s=0.5, stalled_after_s=4.0)
    yield running
    running.stop()


@pytest.fixture(scope="session")
def demo(stack: Stack) -> Stack:
    """The same, with the demo's dataset, contest, models and shelf."""
    Demo(stack.url).run()
    return stack


@pytest.fixture(scope="session")
def hasty() -> Iterator[Stack]:
    """A Gleaner that waits for nothing long."""
    running = Stack(query_seconds=1.5, source_timeout_s=0.5)
    yield running
    running.stop()
