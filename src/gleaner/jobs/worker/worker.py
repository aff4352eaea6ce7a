"""The worker: takes jobs from the queue and runs each in a child process of its own."""

from __future__ import annotations

import asyncio
import importlib
import logging
import os
import shutil
import signal
import subprocess
import time
from contextlib import suppress
from datetime import UTC, datetime

import procrastinate
from procrastinate.jobs import Status
from sqlalchemy import Engine, select

from gleaner import logs
from gleaner.jobs.worker.child import DATABASE_LOST, memory_problem
from gleaner.jobs.worker.job_forker import TEMPLATE, JobForker
from gleaner.jobs.worker.memory import job_memory_bytes, resident_bytes
from gleaner.jobs.worker.schedules import queue_due
from gleaner.processes.fork_server import freeze_imports
from gleaner.processes.forked_process import ForkedProcess
from gleaner.settings import Settings
from gleaner.store import audit, idempotency, jobs, served_lists
from gleaner.store.database.engine import make_engine
from gleaner.store.database.queue import QUEUE, TASK, deferring_app
from gleaner.store.database.tables import jobs as job_table
from gleaner.store.files.artefacts import ArtefactStore
from gleaner.store.files.pins import Pins
from gleaner.wire.common import Problem
from gleaner.wire.imports import ImportRequest
from gleaner.wire.jobs import JobState

CONCURRENCY = 2
POLL_S = 0.2
UPLOAD_AGE_S = 86_400.0
CLEAN_EVERY_S = 3600.0

log = logging.getLogger("gleaner.worker")


class Worker:
    """One worker process."""

    def __init__(self, settings: Settings) -> None:
        # first: what jobs are forked from must not have a connection, which the processes would share
        self.job_forker = JobForker()
        self.settings = settings
        self.engine: Engine = make_engine(
            settings.require_database_url(), pool_size=3, idle_s=settings.locks_end_after_s
        )
        self.app = procrastinate.App(
            connector=procrastinate.PsycopgConnector(conninfo=settings.require_database_url(), min_size=1, max_size=4)
        )
        self.app.task(name=TASK, queue=QUEUE)(self.run_job)
        self.queue = deferring_app()
        self._clean_at = 0.0

    async def run(self) -> None:
        """Work until told to stop. A job that runs then is put back in line."""
        async with self.app.open_async():
            await asyncio.to_thread(self._clean)
            keeper = asyncio.create_task(self._keep_whole())
            try:
                await self.app.run_worker_async(
                    queues=[QUEUE],
                    concurrency=CONCURRENCY,
                    fetch_job_polling_interval=1.0,
                    shutdown_graceful_timeout=0.1,
                    update_heartbeat_interval=self.settings.heartbeat_s,
                    stalled_worker_timeout=self.settings.stalled_after_s,
                    delete_jobs="always",
                )
            finally:
                keeper.cancel()
                with suppress(asyncio.CancelledError):
                    await keeper
        self.engine.dispose()

    async def run_job(self, job_id: int) -> None:
        """Run one job in a child, pass on a cancel, and record how it ended if the child could not."""
        own = await asyncio.to_thread(self._attempts, job_id) + 1
        child = await asyncio.to_thread(self.job_forker.start, job_id)
        try:
            needs_too_much = await self._attend(child, job_id)
        except asyncio.CancelledError:
            child.kill()
            child.wait()
            with self.engine.begin() as connection:
                jobs.requeue(connection, job_id, lost=False)
            raise
        if child.returncode == DATABASE_LOST:
            # an attempt that followed goes on; else it is found among those that are open and not in the queue
            if await asyncio.to_thread(self._attempts, job_id) <= own:
                await asyncio.to_thread(self._requeue, job_id)
            return
        if child.returncode:
            problem = self._too_large() if needs_too_much else death_of(child.returncode)
            await asyncio.to_thread(self._record_death, job_id, own, problem)
        await asyncio.to_thread(self._tidy, job_id)

    async def _attend(self, child: ForkedProcess, job_id: int) -> bool:
        """Wait for the child; after a cancel request it gets a moment to stop by itself.

        A child that takes more memory than a job may is killed. Return whether it was.
        """
        insist_at: float | None = None
        max_bytes = resident_bytes(child.pid) + job_memory_bytes(self.settings)
        while child.returncode is None:
            with suppress(subprocess.TimeoutExpired):
                await asyncio.to_thread(child.wait, POLL_S)
            if insist_at is None and await asyncio.to_thread(self._cancel_requested, job_id):
                insist_at = time.monotonic() + self.settings.cancel_grace_s
            if insist_at is not None and time.monotonic() > insist_at:
                child.kill()
            if child.returncode is None and resident_bytes(child.pid) > max_bytes:
                child.kill()
                await asyncio.to_thread(child.wait)
                return True
        return False

    def _cancel_requested(self, job_id: int) -> bool:
        with self.engine.begin() as connection:
            return jobs.is_cancel_requested(connection, job_id)

    def _attempts(self, job_id: int) -> int:
        """How many attempts at the job have begun."""
        with self.engine.begin() as connection:
            return connection.scalar(select(job_table.c.attempt).where(job_table.c.id == job_id)) or 0

    def _too_large(self) -> Problem:
        return memory_problem(job_memory_bytes(self.settings))

    def _record_death(self, job_id: int, own: int, problem: Problem) -> None:
        """Fail the attempt whose process died. A later one, begun while this machine stood still, goes on."""
        with self.engine.begin() as connection:
            attempt = connection.scalar(select(job_table.c.attempt).where(job_table.c.id == job_id)) or 0
            if attempt > own or not jobs.fail_attempt(connection, job_id, attempt, problem):
                log.warning("job %s: %s; but the job had ended", job_id, problem.detail)

    def _tidy(self, job_id: int) -> None:
        """Remove what an attempt leaves: folders, but not a later attempt's, and the uploads only its job could use."""
        with self.engine.begin() as connection:
            row = connection.execute(select(job_table).where(job_table.c.id == job_id)).one()
        for folder in self.settings.staging.glob(f"job-{job_id}-*"):
            if JobState(row.state).ended or folder.name != f"job-{job_id}-{row.attempt}":
                shutil.rmtree(folder, ignore_errors=True)
        if row.kind == "import" and row.payload and (row.result or {}).get("version"):
            # of any other that has ended they stay for a day: whoever mends the request need not send them again
            for source in ImportRequest.model_validate(jobs.asked_in(row.payload)[0]).sources().values():
                if source.upload:
                    (self.settings.uploads / source.upload).unlink(missing_ok=True)
        if JobState(row.state).ended:
            if not self._open_jobs():
                # with one that waits it is not known whose they are
                self._clean_uploads()
            shutil.rmtree(self.settings.parts(job_id), ignore_errors=True)
            # what a job was asked may name a person or hold a password: none of it is kept
            with self.engine.begin() as connection:
                jobs.clear_payload(connection, job_id)

    def _clean(self) -> None:
        """At start: folders of jobs that do not run, uploads nobody used, files no row points at."""
        with self.engine.begin() as connection:
            jobs.clear_ended_payloads(connection)
            open_jobs = jobs.open_jobs(connection)
            running = [job for job, state in open_jobs.items() if state is JobState.RUNNING]
        for folder in self.settings.staging.glob("job-*"):
            if int(folder.name.split("-")[1]) not in running:
                shutil.rmtree(folder, ignore_errors=True)
        for folder in self.settings.staging.glob("parts-*"):
            # an export that waits to be taken up again goes on from them
            if int(folder.name.split("-")[1]) not in open_jobs:
                shutil.rmtree(folder, ignore_errors=True)
        self._clean_uploads()

    def _prune(self) -> None:
        """Remove what is out of date, and files that nothing refers to."""
        with self.engine.begin() as connection:
            idempotency.prune(connection)
            audit.prune(connection, self.settings.keep_audit_days)
            served_lists.prune(connection, self.settings.keep_lists_days)
        store = ArtefactStore(self.settings.artefact_root, self.settings.home / "cache", Pins(self.engine))
        store.sweep(self.engine)

    def _clean_uploads(self) -> None:
        for upload in self.settings.uploads.glob("*"):
            with suppress(FileNotFoundError):
                if time.time() - upload.stat().st_mtime > UPLOAD_AGE_S:
                    upload.unlink(missing_ok=True)

    async def _keep_whole(self) -> None:
        """Take up again what a lost worker left, so that no job is ever stuck, and queue what the clock asks for."""
        while True:
            try:
                await self._take_up_lost()
            except Exception:
                log.exception("could not look for lost jobs; trying again")
            if time.monotonic() >= self._clean_at:
                self._clean_at = time.monotonic() + CLEAN_EVERY_S
                try:
                    await asyncio.to_thread(self._prune)
                except Exception:
                    log.exception("could not remove what is out of date; trying again in an hour")
            try:
                await asyncio.to_thread(queue_due, self.engine, self.queue, datetime.now(UTC))
            except Exception:
                log.exception("could not look for refreshes that are due; trying again")
            await asyncio.sleep(self.settings.heartbeat_s)

    async def _take_up_lost(self) -> None:
        manager = self.app.job_manager
        for stalled in await manager.get_stalled_jobs(
            queue=QUEUE, seconds_since_heartbeat=self.settings.stalled_after_s
        ):
            job_id = int(str(stalled.task_kwargs["job_id"]))
            log.warning("job %s lost its worker", job_id)
            await asyncio.to_thread(self._requeue, job_id)
            await manager.finish_job(stalled, status=Status.FAILED, delete_job=True)
        # the rows first: a job that is queued between the two looks then has its entry in the second
        open_jobs = await asyncio.to_thread(self._open_jobs)
        queued = {
            int(str(entry.task_kwargs["job_id"]))
            for status in (Status.TODO, Status.DOING)
            for entry in await manager.list_jobs_async(queue=QUEUE, status=status.value)
        }
        for job_id in set(open_jobs) - queued:
            if await asyncio.to_thread(self._still_open, job_id):
                await asyncio.to_thread(self._requeue, job_id)
                await self.app.configure_task(TASK, queue=QUEUE).defer_async(job_id=job_id)

    def _open_jobs(self) -> dict[int, JobState]:
        with self.engine.begin() as connection:
            return jobs.open_jobs(connection)

    def _still_open(self, job_id: int) -> bool:
        return job_id in self._open_jobs()

    def _requeue(self, job_id: int) -> None:
        with self.engine.begin() as connection:
            jobs.requeue(connection, job_id, lost=True)


def death_of(code: int) -> Problem:
    """Return how a job ends whose process ended with this exit code; a negative one is the signal that killed it."""
    how = f"was killed by {signal.Signals(-code).name}" if code < 0 else f"ended with exit code {code}"
    hint = "; the machine may have run out of memory" if code == -signal.SIGKILL else "; see the worker's log"
    return Problem(
        type="urn:gleaner:problem:process-died",
        title="The job's process died",
        status=500,
        detail=f"the process of this job {how}{hint}",
    )


def main() -> None:
    """Entry of the worker process."""
    importlib.import_module(TEMPLATE)
    freeze_imports()
    logs.set_up()
    os.umask(0o077)
    settings = Settings()
    for folder in (settings.uploads, settings.staging):
        folder.mkdir(parents=True, exist_ok=True)
    asyncio.run(Worker(settings).run())
