"""Peak memory of a job's process, and of a stretch of work in it."""

from __future__ import annotations

import ctypes
import gc
import os
import resource
from contextlib import suppress
from pathlib import Path

from gleaner.settings import Settings

STATUS = Path("/proc/self/status")
RESET = Path("/proc/self/clear_refs")
RESET_PEAK = "5"
RESERVED_BYTES = 2**31

_passed = 0.0
"""The highest peak that the kernel was told to forget."""


class PeakMemory:
    """What a stretch of work takes: the largest resident size since this was made, above what was in use before.

    The kernel keeps the peak (Linux). One stretch at a time: a later one starts the kernel's count again.
    """

    def __init__(self) -> None:
        global _passed
        _passed = process_peak()
        _give_back()
        RESET.write_text(RESET_PEAK)
        self._before = _megabytes("VmRSS")

    def megabytes(self) -> float:
        """The work's own peak so far, in MB."""
        return max(0.0, self.of_process() - self._before)

    def of_process(self) -> float:
        """Largest resident size of the whole process since this was made, in MB."""
        return _megabytes("VmHWM")


def process_peak() -> float:
    """Largest resident size of this process since it began, in MB, whatever was measured on the way."""
    return max(_passed, _megabytes("VmHWM"))


def _give_back() -> None:
    """Hand what was freed back to the kernel: a stretch that used it again would seem to take nothing."""
    gc.collect()
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None:
        trim(0)


def _megabytes(name: str) -> float:
    line = next(line for line in STATUS.read_text().splitlines() if line.startswith(name))
    return int(line.split()[1]) / 1024


def machine_memory() -> int:
    """Return the memory of this machine, or of the group of processes that it is limited to, in bytes."""
    limits = [os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")]
    for path in (Path("/sys/fs/cgroup/memory.max"), Path("/sys/fs/cgroup/memory/memory.limit_in_bytes")):
        with suppress(OSError, ValueError):
            limits.append(int(path.read_text()))
    return min(limits)


def resident_bytes(pid: int) -> int:
    """Return the memory that a process has to itself, resident or swapped out, in bytes; 0 where it is gone."""
    try:
        lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    except OSError:
        return 0
    sizes = {name: value for name, _, value in (line.partition(":") for line in lines)}
    return sum(int(sizes[name].split()[0]) * 1024 for name in ("RssAnon", "RssShmem", "VmSwap") if name in sizes)


def job_memory_bytes(settings: Settings) -> int:
    """Return the memory that one job may take, in bytes."""
    return settings.job_memory_mb * 2**20 or machine_memory() * 3 // 4


def limit_memory(n_bytes: int) -> None:
    """Have allocations of this process fail beyond so many bytes above what it has.

    The worker kills a job at its limit, but looks only now and then. This bounds what is taken between two looks;
    allocators reserve memory that they do not use, hence the slack.
    """
    data = int(_megabytes("VmData") * 2**20) + n_bytes + RESERVED_BYTES
    resource.setrlimit(resource.RLIMIT_DATA, (data, data))
