"""Processes that must not outlive the one that started them."""

from __future__ import annotations

import ctypes
import signal

PR_SET_PDEATHSIG = 1


def die_with_parent() -> None:
    """Have the kernel kill this process at once when its parent ends, however that ends (Linux)."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
