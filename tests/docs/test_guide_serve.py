"""The guide `serve.md`, run as it is written on a demo of its own; in a file of its own, so that guides run side by side."""

from __future__ import annotations

from guides import run_guide


def test_the_guide_runs_as_written(tmp_path):
    assert run_guide("serve", tmp_path) == 59
