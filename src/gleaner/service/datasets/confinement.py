"""What a process does that works on what a caller sent, and the bounds that it sets itself before."""

from __future__ import annotations

import ctypes
import importlib
import json
import os
import resource
import signal
from pathlib import Path

PR_SET_PDEATHSIG, PR_SET_NO_NEW_PRIVS = 1, 38


def answer_request(module: str, folder: str, request: int, answer: int) -> None:
    """Entry of such a process: what a module's `outcome_of` makes of the request that is read from one descriptor goes
    to the other, both JSON. folder: where it works."""
    os.chdir(folder)
    with os.fdopen(request, encoding="utf-8") as asked:
        given = json.load(asked)
    outcome = importlib.import_module(module).outcome_of(given)
    with os.fdopen(answer, "w", encoding="utf-8") as told:
        json.dump(outcome, told)


def confine(*, memory_mb: int, seconds: float, threads: int) -> None:
    """Bound this process: its memory beside what it has already, and the time of its processors."""
    libc = ctypes.CDLL(None)
    libc.prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    libc.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
    data = _has_bytes() + (memory_mb << 20)
    resource.setrlimit(resource.RLIMIT_DATA, (data, data))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    used = int(seconds * threads) + 5
    resource.setrlimit(resource.RLIMIT_CPU, (used, used))


def _has_bytes() -> int:
    """Memory of this process that counts to its bound: its own, and not that of files."""
    status = Path("/proc/self/status").read_text()
    kilobytes = next(line.split()[1] for line in status.splitlines() if line.startswith("VmData:"))
    return int(kilobytes) << 10
