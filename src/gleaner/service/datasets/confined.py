"""Work on what callers send that could take any time and memory, done in a process of its own with bounds of both.

The process begins with `confinement.confine` and speaks JSON: what it is asked on its standard input, the outcome on
its standard output. It has none of our environment but what it is given, and ends with whoever started it.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

from gleaner.core.errors import InputError
from gleaner.service.http.problems import UnavailableError

AT_ONCE = 3
_running = threading.BoundedSemaphore(AT_ONCE)


def acquire() -> threading.BoundedSemaphore:
    """One of the few places for such processes, to be released. Raises UnavailableError while all are taken."""
    if not _running.acquire(blocking=False):
        raise UnavailableError(f"{AT_ONCE} queries or looks into files run already; try again in a moment")
    return _running


def run(
    module: str,
    request: dict[str, Any],
    folder: Path,
    *,
    seconds: float,
    what: str,
    where: str,
    memory_mb: int,
    environment: dict[str, str] | None = None,
) -> dict[str, Any]:
    """The outcome of a module's `main`. what: the work, as messages call it; where: the field at fault.

    Raises InputError when it took too long or too much.
    """  # fmt: skip
    try:
        ran = subprocess.run(  # noqa: S603  our own module, and no text of a caller among the arguments
            [sys.executable, "-I", "-m", module],
            input=json.dumps(request),
            capture_output=True,
            text=True,
            timeout=seconds,
            check=False,
            cwd=folder,
            env={"LANG": "C.UTF-8"} | (environment or {}),
        )
    except subprocess.TimeoutExpired as error:
        text = f"{what} took longer than {seconds:g} s and was stopped; make it smaller"
        raise InputError(text, where=where) from error
    if ran.returncode or not ran.stdout:
        raise InputError(f"{what} was stopped: it needed more than {memory_mb} MB or too long", where=where)
    return json.loads(ran.stdout)


def source_secrets() -> dict[str, str]:
    """The secrets that places to read from may name."""
    return {name: value for name, value in os.environ.items() if name.startswith("GLEANER_SOURCE_")}
