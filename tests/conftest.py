"""Fixtures: one running Gleaner for the session, with the demo run on it."""

from __future__ import annotations

import gc

# what imports leave behind lives as long as the process: looking for garbage among it takes a fifth of the collection
gc.disable()

from collections.abc import Iterator  # noqa: E402
from pathlib import Path  # noqa: E402

import pytest  # noqa: E402
from hypothesis import settings  # noqa: E402

import demo_state  # noqa: E402
from stack import Stack  # noqa: E402

# the same examples on every run, and no test that depends on the machine's speed
settings.register_profile("gleaner", deadline=None, derandomize=True)
settings.load_profile("gleaner")


GARBAGE_AFTER = 20_000
"""Objects after which garbage is looked for."""

LONGEST_FIRST = ("docs", "cli", "scenarios", "console", "service")
"""So that no process is left at the end with a long file of tests alone. The tables of commands are looked at before
other tests have filled them."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Files by folder; within a folder as they were."""

    def rank(item: pytest.Item) -> int:
        folder = item.path.relative_to(Path(__file__).parent).parts[0]
        return LONGEST_FIRST.index(folder) if folder in LONGEST_FIRST else len(LONGEST_FIRST)

    items.sort(key=rank)


def pytest_collection_finish() -> None:
    """What was imported is not looked through again and again while tests run."""
    gc.freeze()
    gc.set_threshold(GARBAGE_AFTER)
    gc.enable()


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
    running = Stack(home=demo_state.demo_home(), heartbeat_s=1.0)
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
