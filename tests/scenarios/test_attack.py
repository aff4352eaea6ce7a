"""The standing campaign in its short form: generated calls, mutated files, hostile texts, kills under load, memory."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from pathlib import Path

from demo_state import demo_home

ROOT = Path(__file__).parents[2]
PARTS = (
    "generated calls", "hostile conditions", "schedules", "crafted models", "mutated files", "mutated files, the readers alone",
    "headers and slow clients",
    "memory of the service", "column changes", "pairs of jobs at once", "kills under load",
)  # fmt: skip


def test_a_quarter_of_a_minute_of_the_campaign_finds_nothing():
    home = demo_home()
    done = subprocess.run(
        # it lasts as long however much it is given: what runs beside it comes first
        [
            "nice",
            "-n",
            "5",
            sys.executable,
            "-m",
            "attack",
            "--minutes",
            "0.25",
            "--seed",
            "2",
            "--short",
            "--home",
            str(home),
        ],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=False,
        timeout=400,
    )
    shutil.rmtree(home)  # it was copied, and is as it was
    assert done.returncode == 0, done.stdout + done.stderr[-3000:]
    assert "nothing wrong" in done.stdout
    for part in PARTS:
        # whatever the machine, something was tried
        tried = re.search(rf"^{part}.*? +([\d,]+) +[\d,]+ +0$", done.stdout, re.M)
        assert tried, done.stdout
        assert tried[1] != "0", done.stdout
