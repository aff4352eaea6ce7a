"""Job rows. A running attempt writes only while its attempt number is the row's: an attempt that was given up on, but
lives still, changes nothing."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Connection, Row, Text, and_, cast, func, insert, or_, select, text, update

from gleaner.core.errors import ConflictError, UnknownNameError
from gleaner.store.database.engine import notify
from gleaner.store.database.pages import after_id, paged
from gleaner.store.database.tables import datasets, job_log, jobs, models, runs, versions
from gleaner.store.records.jobs import JobLogRecord, JobRecord, LoggedJobRecord
from gleaner.store.records.pages import RecordPage
from gleaner.wire.common import Problem
from gleaner.wire.jobs import JobState

CHANNEL = "gleaner_jobs"
LOG_LINES = 500


@dataclass(frozen=True)
class Claim:
    """One attempt at one job."""

    id: int
    attempt: int
    kind: str
    subject: str
    payload: dict[str, Any]
    anywhere: bool = False


ANYWHERE = "(any url)"
"""Marks, in a payload, that whoever asked may reach any URL. No message has such a field, so nobody can send it."""


def add(
    connection: Connection,
    kind: str,
    subject: str,
    payload: dict[str, Any],
    traceparent: str | None = None,
    *,
    anywhere: bool = False,
) -> int:
    """A new queued job; answers its id. The queue entry belongs into the same transaction. anywhere: whether whoever
    asked may reach any URL."""
    values = {
        "kind": kind,
        "subject": subject,
        "payload": payload | ({ANYWHERE: True} if anywhere else {}),
        "state": "queued",
        "traceparent": traceparent,
    }
    return connection.execute(insert(jobs).values(values).returning(jobs.c.id)).scalar_one()


def get(connection: Connection, job_id: int) -> JobRecord:
    """One job. Raises UnknownNameError."""
    return _job(_row(connection, job_id))


def detail(connection: Connection, job_id: int) -> LoggedJobRecord:
    """One job with the last lines of its log."""
    lines = connection.execute(
        select(job_log.c.at, job_log.c.text)
        .where(job_log.c.job_id == job_id)
        .order_by(job_log.c.id.desc())
        .limit(LOG_LINES)
    ).all()
    log = [JobLogRecord(at, text) for at, text in reversed(lines)]
    return LoggedJobRecord(**vars(get(connection, job_id)), log=log)


def page(
    connection: Connection, *, after: str | None, limit: int, state: JobState | None = None, kind: str | None = None
) -> RecordPage[JobRecord]:
    """Jobs, of one state or kind where these are given, newest first."""
    query = select(jobs).order_by(jobs.c.id.desc()).limit(limit + 1)
    if (last := after_id(after)) is not None:
        query = query.where(jobs.c.id < last)
    if state is not None:
        query = query.where(jobs.c.state == state.value)
    if kind is not None:
        query = query.where(jobs.c.kind == kind)
    return paged(connection.execute(query).all(), limit, "id", _job)


def claim(connection: Connection, job_id: int, max_losses: int) -> Claim | None:
    """Begin an attempt, or None when the job has ended, was cancelled, or has lost its worker too often."""
    row = connection.execute(select(jobs).where(jobs.c.id == job_id).with_for_update()).one_or_none()
    if row is None or JobState(row.state).ended:
        return None
    if row.cancel_requested:
        _end(connection, job_id, JobState.CANCELLED, message="cancelled before it began")
        return None
    if row.losses >= max_losses:
        detail = f"the worker was lost {row.losses} times while running this job; its log says how far it came"
        lost = Problem(type="urn:gleaner:problem:worker-lost", title="The worker was lost", status=500, detail=detail)
        _end(connection, job_id, JobState.FAILED, problem=lost)
        return None
    attempt = row.attempt + 1
    values = {"state": "running", "attempt": attempt, "progress": 0, "message": "", "started_at": func.now()}
    connection.execute(update(jobs).where(jobs.c.id == job_id).values(values))
    log(
        connection,
        job_id,
        f"attempt {attempt} begins" + (" (the one before did not end)" if attempt > 1 else ""),
    )
    notify(connection, CHANNEL, str(job_id))
    payload, anywhere = asked_in(row.payload)
    return Claim(job_id, attempt, row.kind, row.subject, payload, anywhere)


def asked_in(payload: dict[str, Any]) -> tuple[dict[str, Any], bool]:
    """What a job was asked, and whether whoever asked may reach any URL."""
    return {name: value for name, value in payload.items() if name != ANYWHERE}, payload.get(ANYWHERE) is True


def advance(connection: Connection, claim: Claim, progress: float, message: str) -> bool:
    """Record progress. Answers False when the attempt should stop: cancelled, or no longer the current one."""
    # progress lost with the machine costs nothing, and a slow disk must not hold the work up
    connection.execute(text("SET LOCAL synchronous_commit = off"))
    changed = connection.execute(
        update(jobs)
        .where(*_current(claim))
        .values(progress=min(max(progress, 0.0), 1.0), message=message)
        .returning(jobs.c.cancel_requested)
    ).one_or_none()
    notify(connection, CHANNEL, str(claim.id))
    return changed is not None and not changed.cancel_requested


def log(connection: Connection, job_id: int, line: str) -> None:
    """Add a line to a job's log."""
    connection.execute(insert(job_log).values(job_id=job_id, text=line))


def require_current(connection: Connection, claim: Claim) -> None:
    """Lock the row for the transaction that keeps a result. Raises ConflictError when the attempt is void."""
    row = connection.execute(select(jobs.c.cancel_requested).where(*_current(claim)).with_for_update()).one_or_none()
    if row is None:
        raise ConflictError(f"attempt {claim.attempt} of job {claim.id} is no longer the current one")


def finish(
    connection: Connection,
    claim: Claim,
    state: JobState,
    *,
    result: dict[str, Any] | None = None,
    problem: Problem | None = None,
    message: str = "",
    peak_memory_mb: float | None = None,
) -> bool:
    """End an attempt; False when it had ended otherwise already."""
    row = connection.execute(select(jobs.c.id).where(*_current(claim)).with_for_update()).one_or_none()
    if row is None:
        return False
    _end(
        connection,
        claim.id,
        state,
        result=result,
        problem=problem,
        message=message,
        peak_memory_mb=peak_memory_mb,
    )
    return True


def request_cancel(connection: Connection, job_id: int) -> JobRecord:
    """Ask a job to stop; one still queued ends at once. Raises ConflictError when it has ended."""
    row = connection.execute(select(jobs).where(jobs.c.id == job_id).with_for_update()).one_or_none()
    if row is None:
        raise UnknownNameError(f"there is no job {job_id}", where="job")
    if JobState(row.state).ended:
        raise ConflictError(f"job {job_id} has ended already ({row.state})", where="job")
    connection.execute(update(jobs).where(jobs.c.id == job_id).values(cancel_requested=True))
    if row.state == JobState.QUEUED:
        _end(connection, job_id, JobState.CANCELLED, message="cancelled before it began")
    notify(connection, CHANNEL, str(job_id))
    return get(connection, job_id)


def is_cancel_requested(connection: Connection, job_id: int) -> bool:
    """Whether someone asked this job to stop."""
    return bool(connection.scalar(select(jobs.c.cancel_requested).where(jobs.c.id == job_id)))


def requeue(connection: Connection, job_id: int, *, lost: bool) -> None:
    """Put a running job back in line: its worker was lost, which is counted, or was stopped, which is not."""
    why = "the worker was lost" if lost else "the worker was stopped"
    values = {
        "state": "queued",
        "message": f"{why}; waiting to be taken up again",
        "losses": jobs.c.losses + (1 if lost else 0),
    }
    connection.execute(update(jobs).where(jobs.c.id == job_id, jobs.c.state == "running").values(values))
    notify(connection, CHANNEL, str(job_id))


def open_jobs(connection: Connection) -> dict[int, JobState]:
    """Every job that has not ended, with its state."""
    rows = connection.execute(select(jobs.c.id, jobs.c.state).where(jobs.c.state.in_(["queued", "running"])))
    return {row.id: JobState(row.state) for row in rows}


def running_on(connection: Connection, dataset: str, *, but: int) -> list[int]:
    """Return the jobs that run and may read rows of a dataset, without one of them and without forgetting."""
    contest_data = (
        select(runs.c.job_id, datasets.c.name)
        .join(versions, versions.c.id == runs.c.version_id)
        .join(datasets, datasets.c.id == versions.c.dataset_id)
        .subquery()
    )
    elsewhere = and_(jobs.c.kind.in_(["import", "gather", "split"]), jobs.c.subject != dataset)
    query = (
        select(jobs.c.id)
        .outerjoin(contest_data, contest_data.c.job_id == jobs.c.id)
        .where(jobs.c.state == JobState.RUNNING.value, jobs.c.id != but, jobs.c.kind != "forget", ~elsewhere)
        .where(or_(contest_data.c.name.is_(None), contest_data.c.name == dataset))
    )
    return list(connection.scalars(query.order_by(jobs.c.id)))


def exports_sent(connection: Connection, dataset: str) -> list[str]:
    """Return where exports of a dataset's models were sent to: URLs and tables, as they may be shown."""
    model = jobs.c.result["model"].as_string()
    of_dataset = (
        select(models.c.name + "@" + cast(models.c.number, Text))
        .join(versions, versions.c.id == models.c.version_id)
        .join(datasets, datasets.c.id == versions.c.dataset_id)
        .where(datasets.c.name == dataset)
    )
    target = func.coalesce(jobs.c.result["to"].as_string(), jobs.c.result["table"].as_string())
    is_export = (jobs.c.kind == "export") & (jobs.c.state == JobState.DONE.value) & jobs.c.result.is_not(None)
    query = select(target).where(is_export, target.is_not(None), model.in_(of_dataset))
    return list(connection.scalars(query.distinct()))


def open_already(connection: Connection, kind: str, subject: str) -> bool:
    """Whether a job of this kind and subject is open. Whoever else asks waits until this transaction ends."""
    connection.execute(text("SELECT pg_advisory_xact_lock(hashtext(:name))"), {"name": f"job {kind} {subject}"})
    mine = (jobs.c.kind == kind) & (jobs.c.subject == subject) & jobs.c.state.in_(["queued", "running"])
    return connection.scalar(select(jobs.c.id).where(mine).limit(1)) is not None


def set_peak_memory(connection: Connection, job_id: int, megabytes: float) -> None:
    """Keep the peak memory of a job that has ended well."""
    connection.execute(update(jobs).where(jobs.c.id == job_id).values(peak_memory_mb=megabytes))


def clear_payload(connection: Connection, job_id: int) -> None:
    """Forget what an ended job was asked."""
    connection.execute(update(jobs).where(jobs.c.id == job_id).values(payload={}))


def clear_ended_payloads(connection: Connection) -> None:
    """The same for every job that ended while nobody was there to do it."""
    ended = [state.value for state in JobState if state.ended]
    connection.execute(update(jobs).where(jobs.c.state.in_(ended)).values(payload={}))


def fail_attempt(connection: Connection, job_id: int, attempt: int, problem: Problem) -> bool:
    """End an attempt whose process is gone; False when the job has ended or moved on."""
    gone = Claim(job_id, attempt, "", "", {})
    cancelled = is_cancel_requested(connection, job_id)
    if cancelled:
        return finish(connection, gone, JobState.CANCELLED, message="cancelled")
    return finish(connection, gone, JobState.FAILED, problem=problem)


def _end(
    connection: Connection,
    job_id: int,
    state: JobState,
    *,
    result: dict[str, Any] | None = None,
    problem: Problem | None = None,
    message: str = "",
    peak_memory_mb: float | None = None,
) -> None:
    values: dict[str, Any] = {
        "state": state.value,
        "result": result,
        "problem": problem.model_dump() if problem else None,
        "message": message,
        "finished_at": func.clock_timestamp(),
        "peak_memory_mb": peak_memory_mb,
    }
    if state is JobState.DONE:
        values["progress"] = 1.0
    connection.execute(update(jobs).where(jobs.c.id == job_id).values(values))
    log(connection, job_id, problem.detail if problem else message or state.value)
    notify(connection, CHANNEL, str(job_id))


def _current(claim: Claim) -> tuple[Any, ...]:
    return jobs.c.id == claim.id, jobs.c.attempt == claim.attempt, jobs.c.state == "running"


def _row(connection: Connection, job_id: int) -> Row[Any]:
    row = connection.execute(select(jobs).where(jobs.c.id == job_id)).one_or_none()
    if row is None:
        raise UnknownNameError(f"there is no job {job_id}", where="job")
    return row


def _job(row: Row[Any]) -> JobRecord:
    names = (
        "id", "kind", "subject", "progress", "message", "attempt", "created_at", "started_at", "finished_at",
        "peak_memory_mb", "cancel_requested", "result",
    )  # fmt: skip
    left = None
    if row.state == JobState.RUNNING and row.progress > 0.02 and row.started_at:
        spent = (datetime.now(UTC) - row.started_at).total_seconds()
        left = round(spent / row.progress * (1 - row.progress), 1)
    problem = None if row.problem is None else Problem.model_validate(row.problem)
    plain = {name: row._mapping[name] for name in names}
    return JobRecord(**plain, state=JobState(row.state), problem=problem, seconds_left=left)
