"""What is installed is what is pinned, byte for byte: the lock files and the environments agree. Nothing is fetched."""

from __future__ import annotations

import json
import re
from importlib.metadata import distributions
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
OURS = {"gleaner", "pip"}


def plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()


def pinned(which: str) -> dict[str, tuple[str, int]]:
    """Version and number of hashes by package."""
    result: dict[str, tuple[str, int]] = {}
    text = (ROOT / f"requirements/{which}.txt").read_text().replace("\\\n", " ")
    for line in text.splitlines():
        if line.strip() and not line.startswith("#"):
            name, version, rest = re.fullmatch(
                r"([\w.-]+)==(\S+)((?:\s+--hash=sha256:[0-9a-f]{64})*)\s*", line
            ).groups()
            result[plain(name)] = version, rest.count("--hash")
    return result


def test_the_python_environment_is_the_one_that_is_pinned():
    # a build for one sort of machine says so behind a plus sign
    installed = {plain(each.metadata["Name"]): each.version.partition("+")[0] for each in distributions()}
    wanted = {name: version for name, (version, _) in (pinned("test") | pinned("neural")).items()}
    assert {name: version for name, version in installed.items() if name not in OURS} == wanted


@pytest.mark.parametrize(("which", "at_least"), [("run", 60), ("test", 60), ("neural", 7)])
def test_every_package_has_hashes(which, at_least):
    pins = pinned(which)
    assert len(pins) >= at_least
    assert [name for name, (_, hashes) in pins.items() if not hashes] == []


def test_what_runs_is_what_is_tested():
    tested = pinned("test")
    assert {name: each for name, each in pinned("run").items() if tested.get(name) != each} == {}
    assert {name for name, each in pinned("neural").items() if tested.get(name, each)[0] != each[0]} == set()


def test_the_console_is_built_from_what_is_pinned():
    locked = json.loads((ROOT / "console/package-lock.json").read_text())["packages"]
    installed = json.loads((ROOT / "console/node_modules/.package-lock.json").read_text())["packages"]
    assert len(installed) > 100
    for place, facts in installed.items():
        wanted = locked[place]
        assert facts["version"] == wanted["version"], place
        assert facts.get("integrity") == wanted.get("integrity"), place
        assert wanted.get("integrity", "").startswith("sha512-"), place
    for place, facts in locked.items():
        # what is not there is for another machine, or is the console itself
        assert place in installed or not place or facts.get("optional"), place
        assert "resolved" not in facts, place
