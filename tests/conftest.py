"""Fixtures: one running Gleaner for the session, with the demo run on it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

import demo_state
from stack import Stack

# the same examples on every run, and no test that depends on the machine's speed
settings.register_profile("gleaner", deadline=None, derandomize=True)
settings.load_profile("gleaner")


LONGEST_FIRST = ("docs", "cli", "scenarios", "console", "service")
"""So that no process is left at the end with a long file of tests alone. The tables of commands are looked at before
other tests have filled them."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Files by folder; within a folder as they were."""

    def rank(item: pytest.Item) -> int:
        folder = item.path.relative_to(Path(__file__).parent).parts[0]
        return LONGEST_FIRST.index(folder) if folder in LONGEST_FIRST else len(LONGEST_FIRST)

    items.sort(key=rank)


def pytest_configure(config: pytest.Config) -> None:
    """Of the processes that share the tests the one that starts the others."""
    if not hasattr(config, "workerinput"):
        demo_state.begin()


def pytest_unconfigure(config: pytest.Config) -> None:
    """The same."""
    if not hasattr(config, "workerinput"):
        demo_state.end()


@pytest.fixture(scope="session")
def stack() -> Iterator[Stack]:
    """A running Gleaner, quick to notice a lost worker, on which the demo has run."""
    running = Stack(home=demo_state.demo_home(), heartbeat_s=1.0, stalled_after_s=4.0)
    yield running
    running.stop()


@pytest.fixture(scope="session")
def demo(stack: Stack) -> Stack:
    """The same, by another name: for tests of the demo's dataset, contest, models and shelf."""
    return stack


@pytest.fixture(scope="session")
def hasty() -> Iterator[Stack]:
    """A Gleaner that waits for nothing long."""
    running = Stack(query_seconds=1.5, source_timeout_s=0.5)
    yield running
    running.stop()
