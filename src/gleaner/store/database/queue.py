"""The job queue: one task that runs one job by its id, queued in the transaction that makes the job's row."""

from __future__ import annotations

from typing import Any

import procrastinate
from sqlalchemy import Connection

from gleaner.store import jobs

QUEUE = "work"
TASK = "run_job"


def deferring_app() -> procrastinate.App:
    """An app that only queues; it borrows the caller's connection and never opens one itself."""
    return procrastinate.App(connector=procrastinate.SyncPsycopgConnector())


def submit(
    connection: Connection,
    app: procrastinate.App,
    kind: str,
    subject: str,
    payload: dict[str, Any],
    traceparent: str | None = None,
    *,
    anywhere: bool = False,
) -> int:
    """Make a job and queue it: both happen when the caller's transaction commits, or neither. Answers its id.

    anywhere: whether whoever asks may reach any URL.
    """
    job_id = jobs.add(connection, kind, subject, payload, traceparent, anywhere=anywhere)
    driver = connection.connection.driver_connection
    app.configure_task(TASK, queue=QUEUE, allow_unknown=True, connection=driver).defer(job_id=job_id)
    return job_id
