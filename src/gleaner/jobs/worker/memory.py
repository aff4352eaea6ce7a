"""Peak memory of a job's process, and of a stretch of work in it."""

from __future__ import annotations

import ctypes
import gc
from pathlib import Path

STATUS = Path("/proc/self/status")
RESET = Path("/proc/self/clear_refs")
RESET_PEAK = "5"

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
