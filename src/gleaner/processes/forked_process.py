"""A process that was forked for us by another."""

from __future__ import annotations

import os
import select
import signal
import subprocess
import threading
from collections.abc import Callable


class ForkedProcess:
    """Like a process started by `subprocess.Popen`: its number, whether it runs, its exit code, signals for it.

    exit_code_of: asked once it has ended; waits until its code is known. What is asked of the kernel goes by a
    descriptor of this very process, and never reaches another that got its number later.
    """

    def __init__(self, pid: int, exit_code_of: Callable[[int], int]) -> None:
        self.pid = pid
        self.returncode: int | None = None
        self._lock = threading.Lock()
        self._exit_code_of = exit_code_of
        self._descriptor: int | None = None
        try:
            self._descriptor = os.pidfd_open(pid)
        except ProcessLookupError:
            self.returncode = exit_code_of(pid)

    def __del__(self) -> None:
        if self._descriptor is not None:
            os.close(self._descriptor)

    def poll(self) -> int | None:
        """Its exit code, minus a signal's number where one killed it; None while it runs."""
        try:
            return self.wait(timeout=0)
        except subprocess.TimeoutExpired:
            return None

    def wait(self, timeout: float | None = None) -> int:
        """Its exit code when it has ended. Raises subprocess.TimeoutExpired after that many seconds."""
        if self.returncode is None:
            assert self._descriptor is not None
            waiting = select.poll()
            waiting.register(self._descriptor, select.POLLIN)
            if not waiting.poll(None if timeout is None else timeout * 1000):
                raise subprocess.TimeoutExpired(f"process {self.pid}", timeout or 0.0)
            # its code is told once: of two threads that wait for it the second finds it here
            with self._lock:
                if self.returncode is None:
                    self.returncode = self._exit_code_of(self.pid)
        return self.returncode

    def send_signal(self, which: int) -> None:
        """Send it a signal. One that has ended is left alone."""
        if self.returncode is None:
            assert self._descriptor is not None
            try:
                signal.pidfd_send_signal(self._descriptor, which)
            except ProcessLookupError:
                return

    def terminate(self) -> None:
        """Ask it to end."""
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        """End it at once."""
        self.send_signal(signal.SIGKILL)
