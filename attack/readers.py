"""Mutated files given to the readers alone, in a process of their own: some hundred a second, where the service takes ten.

Reading ends with rows or with a refusal in words. Anything else, a process that dies of a file among it, is wrong.
"""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from attack.files import ROWS, TABLES, mutated
from attack.outcome import Outcome
from attack.target import Target
from gleaner.core.errors import DataError
from gleaner.jobs.datasets.import_tables import read_whole
from gleaner.jobs.datasets.opening import SourceOpener
from gleaner.settings import Settings
from gleaner.wire.imports import Source

UPLOAD = "u-0123456789abcdef"
INTRICATE = ("rows.arrow", "rows.parquet", "rows.xlsx")
"""Formats that are read twice as often: their readers have the most that can break."""
MOST_DEATHS = 5
SPARE_S = 120.0
"""Time to start and to end, beyond that of reading."""


def attack(_: Target, seconds: float, seed: int) -> Outcome:
    """Read mutated files for so long. A process that dies is followed by another, with other mutations."""
    outcome, end = Outcome("mutated files, the readers alone"), time.monotonic() + seconds
    for number in range(MOST_DEATHS):
        left = end - time.monotonic()
        if left <= 0:
            break
        command = [sys.executable, "-m", "attack.readers", str(left), str(seed + 1000 * number)]
        done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=left + SPARE_S)
        lines = [json.loads(line) for line in done.stdout.splitlines()]
        for line in lines:
            _note(line, outcome)
        if done.returncode:
            last = next((line["reading"] for line in reversed(lines) if "reading" in line), "nothing")
            outcome.report_progress("died", f"a reader died ({done.returncode}) near mutation {last}")
    return outcome


def _note(line: dict[str, object], outcome: Outcome) -> None:
    if "wrong" in line:
        outcome.report_progress(str(line["sort"]), str(line["wrong"]))
    if "tried" in line:
        outcome.tried += int(str(line["tried"]))
        outcome.refused += int(str(line["refused"]))


def read_for(seconds: float, seed: int) -> None:
    """Read mutated files for so long, and print what was tried and what was wrong, a JSON object a line."""
    drawn, end = random.Random(seed), time.monotonic() + seconds  # noqa: S311
    contents = {name: make(ROWS) for name, make in TABLES.items()}
    names, tried, refused = [*sorted(contents), *INTRICATE], 0, 0
    with tempfile.TemporaryDirectory() as folder:
        settings = Settings(home=Path(folder))
        settings.uploads.mkdir(parents=True)
        opener = SourceOpener(settings, Path(folder), lambda text: None, anywhere=True)
        # on a busy machine the time may be over before the first is written: each is read once in any case
        while tried < len(names) or time.monotonic() < end:
            name = names[tried % len(names)]
            if tried % 500 == 0:
                _print(reading=f"{tried} of seed {seed}")
            (settings.uploads / UPLOAD).write_bytes(mutated(contents[name], drawn))
            tried += 1
            refused += _read(opener, name)
    _print(tried=tried, refused=refused)


def _read(opener: SourceOpener, name: str) -> bool:
    """Read one file; return whether it was refused."""
    try:
        source = opener.open(Source(upload=UPLOAD, file=name), "interactions")
        read_whole(source, source.columns)
    except DataError:
        return True
    except (KeyboardInterrupt, SystemExit):
        raise
    except BaseException as error:
        # a reader written in another language may raise what is no Exception
        sort = f"{name} {type(error).__name__}"
        _print(sort=sort, wrong=f"reading {name}: {type(error).__name__}: {str(error)[:200]}")
    return False


def _print(**line: object) -> None:
    print(json.dumps(line), flush=True)


if __name__ == "__main__":
    # what libraries say of damaged files on standard error is not kept
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
    read_for(float(sys.argv[1]), int(sys.argv[2]))
