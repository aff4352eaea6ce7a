"""The bounds that a process sets itself before it works on what a caller sent. It stands alone: whatever it imported,
every such process would load first."""

from __future__ import annotations

import ctypes
import resource
import signal
from pathlib import Path

PR_SET_PDEATHSIG, PR_SET_NO_NEW_PRIVS = 1, 38


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
