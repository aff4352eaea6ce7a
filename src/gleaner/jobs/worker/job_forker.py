"""Processes for jobs that start at once: forked from one that has everything imported and has done nothing else."""

from __future__ import annotations

import os
import signal
import sys
import threading

from gleaner.jobs.worker import child
from gleaner.processes.forked_process import ForkedProcess
from gleaner.processes.process_forker import ForkRequest, ProcessForker

TEMPLATE = "gleaner.jobs.worker.template"
ATTEMPTS = 3


class JobForker:
    """Starts the processes of jobs. The one they are forked from never runs a job, holds no connection and starts no
    thread of ours; when the worker ends, however that ends, it ends too and its children with it: two attempts must
    not run side by side.

    Made before the worker has threads or connections, for the first such process is forked from the worker itself.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._forker = ProcessForker.of_this_process()

    def start(self, job_id: int) -> ForkedProcess:
        """Run a job in a process of its own. Raises ConnectionError where what it is forked from dies each time."""
        request = ForkRequest(
            entry=f"{__name__}:run_job", name=f"gleaner job {job_id}", dies_by=signal.SIGKILL, arguments=[job_id]
        )
        with self._lock:
            for _ in range(ATTEMPTS - 1):
                try:
                    return self._forker.fork(request)
                except ConnectionError:
                    # it was killed. The worker has threads by now, and no longer forks: the next one imports all afresh
                    self._forker.close()
                    self._forker = ProcessForker.start([TEMPLATE], dict(os.environ))
            return self._forker.fork(request)


def run_job(job_id: int) -> None:
    """Entry of a job's process."""
    sys.exit(child.main(job_id))
