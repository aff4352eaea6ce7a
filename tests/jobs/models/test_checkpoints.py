"""Checkpoints of fits on disk: whole or not at all, and taken up by a later attempt of the same job only."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from gleaner.core.models.base.watching import Checkpoint
from gleaner.jobs.models import checkpoints
from gleaner.jobs.models.checkpoints import JobCheckpoints
from gleaner.settings import Settings


def kept_by(home, attempt: int, goal: str = "validation") -> JobCheckpoints:
    settings = Settings(home=home)
    settings.staging.mkdir(exist_ok=True)
    return JobCheckpoints.of(
        SimpleNamespace(settings=settings, claim=SimpleNamespace(id=9, attempt=attempt)), "two_towers", goal
    )


@pytest.fixture(autouse=True)
def at_once(monkeypatch):
    monkeypatch.setattr(checkpoints, "EVERY_S", 0.0)


def checkpoint(iteration: int) -> Checkpoint:
    arrays = {"weight/items": np.full((3, 2), iteration, np.float32), "steps": np.array([7 * iteration])}
    record = {"rounds": [], "warnings": ["slow"], "best": 2, "best_value": 0.25, "waited": 1}
    return Checkpoint(iteration, arrays, {"item_factors": np.ones((2, 2), np.float32)}, record)


def test_a_later_attempt_finds_the_last_whole_one(tmp_path):
    first = kept_by(tmp_path, 1)
    assert first.load() is None
    for iteration in (1, 2, 3):
        first.save(checkpoint(iteration))
    (first.path.with_suffix(".1")).write_bytes(b"what a killed attempt was writing")
    found = kept_by(tmp_path, 2).load()
    expected = checkpoint(3)
    assert (found.iteration, found.record) == (3, expected.record)
    for name, array in expected.arrays.items():
        np.testing.assert_array_equal(found.arrays[name], array)
    np.testing.assert_array_equal(found.best["item_factors"], np.ones((2, 2)))
    assert kept_by(tmp_path, 2, goal="test").load() is None


def test_a_damaged_one_and_that_of_another_version_are_passed_over(tmp_path, monkeypatch):
    kept = kept_by(tmp_path, 1)
    kept.save(checkpoint(4))
    whole = kept.path.read_bytes()
    kept.path.write_bytes(whole[:-8])
    assert kept.load() is None
    kept.path.write_bytes(whole)
    assert kept.load().iteration == 4
    monkeypatch.setattr(checkpoints, "__version__", "0.0.1")
    assert kept.load() is None


def test_one_that_is_a_moment_old_is_not_written_again(tmp_path, monkeypatch):
    monkeypatch.setattr(checkpoints, "EVERY_S", 1000.0)
    kept = kept_by(tmp_path, 1)
    kept.save(checkpoint(1))
    assert kept.load() is None
