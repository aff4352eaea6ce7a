"""Processes for jobs that start at once: forked from one that has everything imported and has done nothing else."""

from __future__ import annotations

import multiprocessing
import os
import sys
from multiprocessing import forkserver
from multiprocessing.context import ForkServerProcess

from gleaner.jobs.worker import child
from gleaner.jobs.worker.parent import die_with_parent


class JobForker:
    """Starts the processes of jobs. The one they are forked from never runs a job, holds no connection and starts no
    thread of ours; when the worker ends, however that ends, it ends too and its children with it."""

    def __init__(self) -> None:
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(["gleaner.jobs.worker.template"])
        forkserver.ensure_running()

    def start(self, job_id: int) -> ForkServerProcess:
        """Run a job in a process of its own. The first waits until everything is imported."""
        process = self._context.Process(target=begin, args=(job_id,), name=f"job {job_id}")
        process.start()
        return process


def begin(job_id: int) -> None:
    """Entry of a job's process: two attempts must not run side by side, so it never outlives the worker."""
    parent = os.getppid()
    die_with_parent()
    if os.getppid() == parent:
        sys.exit(child.main(job_id))
