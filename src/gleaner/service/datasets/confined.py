"""Work on what callers send that could take any time and memory, done in a process of its own with bounds of both.

The process is forked from one that has imported what such work needs, and has nothing of ours: no environment, no
settings, no connection. It sets itself bounds (`confinement.confine`) before it looks at anything, and ends with
whoever asked for it.
"""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import threading
from pathlib import Path
from signal import SIGKILL
from typing import Any

from gleaner.core.errors import InputError
from gleaner.processes.forked_process import ForkedProcess
from gleaner.processes.process_forker import ForkRequest, ProcessForker
from gleaner.service.http.problems import UnavailableError

MODULES = ("gleaner.service.datasets.inspection_child", "gleaner.service.datasets.sql_child")
ENTRY = "gleaner.service.datasets.confinement:answer_request"
ENVIRONMENT = {"LANG": "C.UTF-8", "ARROW_DEFAULT_MEMORY_POOL": "system"}
"""Arrow's own pool reserves a gigabyte at first use, which is all that such a process may have."""

AT_ONCE = 3
_running = threading.BoundedSemaphore(AT_ONCE)


def acquire() -> threading.BoundedSemaphore:
    """One of the few places for such processes, to be released. Raises UnavailableError while all are taken."""
    if not _running.acquire(blocking=False):
        raise UnavailableError(f"{AT_ONCE} queries or looks into files run already; try again in a moment")
    return _running


class _Forker:
    """What such processes are forked from: started by the first who needs it, and anew where it has ended."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._forker: ProcessForker | None = None

    def fork(self, request: ForkRequest) -> ForkedProcess:
        """A new process."""
        with self._lock:
            if self._forker is not None and self._forker.is_alive():
                # it may end between being looked at and being asked
                with contextlib.suppress(ConnectionError):
                    return self._forker.fork(request)
            if self._forker is not None:
                self._forker.close()
            self._forker = ProcessForker.start(MODULES, ENVIRONMENT, request.output, isolated=True)
            return self._forker.fork(request)


_forker = _Forker()


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
    """What a module's `outcome_of` makes of a request. what: the work, as messages call it; where: the field at fault.

    Raises InputError when it took too long or too much.
    """  # fmt: skip
    with os.fdopen(os.memfd_create("request"), "w+b") as asked, os.fdopen(os.memfd_create("answer"), "w+b") as answer:
        asked.write(json.dumps(request).encode())
        asked.flush()
        asked.seek(0)
        with open(os.devnull, "wb") as nowhere:
            process = _forker.fork(
                ForkRequest(
                    ENTRY, "gleaner confined", SIGKILL, (module, str(folder)), ENVIRONMENT | (environment or {}),
                    nowhere.fileno(), (asked.fileno(), answer.fileno()),
                )
            )  # fmt: skip
        try:
            code = process.wait(timeout=seconds)
        except subprocess.TimeoutExpired as error:
            process.kill()
            process.wait()
            text = f"{what} took longer than {seconds:g} s and was stopped; make it smaller"
            raise InputError(text, where=where) from error
        answer.seek(0)  # both have one place in it
        told = answer.read()
    if code or not told:
        raise InputError(f"{what} was stopped: it needed more than {memory_mb} MB or too long", where=where)
    return json.loads(told)


def source_secrets() -> dict[str, str]:
    """The secrets that places to read from may name."""
    return {name: value for name, value in os.environ.items() if name.startswith("GLEANER_SOURCE_")}
