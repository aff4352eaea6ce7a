"""How long a process lives, and what it is called (Linux)."""

from __future__ import annotations

import ctypes
import signal

PR_SET_PDEATHSIG = 1
PR_SET_NAME = 15


def die_with_parent(by: signal.Signals) -> None:
    """Have the kernel send this process a signal at once when its parent ends, however that ends."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, by)


def call_process(name: str) -> None:
    """Name this process for `ps -o comm` and `top`: those that are forked from one have its command line. The kernel
    keeps the first 15 bytes."""
    ctypes.CDLL(None).prctl(PR_SET_NAME, name.encode(), 0, 0, 0)
