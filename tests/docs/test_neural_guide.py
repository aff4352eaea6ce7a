"""The guide to networks is run; in a file of its own, so that it takes its turn beside the other guides."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from guides import run_blocks
from stack import Stack

GUIDE = Path(__file__).parents[2] / "docs" / "guides" / "neural.md"


@pytest.fixture(scope="module")
def fresh() -> Iterator[Stack]:
    """A service with nothing in it."""
    running = Stack()
    yield running
    running.stop()


def test_the_guide_to_networks_runs_as_written(fresh, tmp_path):
    assert run_blocks(GUIDE, fresh, tmp_path) == 22
