"""Refreshes of shelves. A job runs one and proposes; a serving process tries what is proposed and publishes it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Row, Select, func, select, update
from sqlalchemy.dialects.postgresql import insert as upsert

from gleaner.store.database.engine import notify
from gleaner.store.database.pages import after_id, paged
from gleaner.store.database.tables import jobs, refreshes, shelf_servings, shelf_versions, shelves
from gleaner.store.records.pages import RecordPage
from gleaner.store.records.shelves import RefreshRecord
from gleaner.wire.jobs import JobState
from gleaner.wire.shelves.refreshes import GuardOutcome
from gleaner.wire.shelves.shelf import ShelfSpec

CHANNEL = "gleaner_refreshes"


@dataclass(frozen=True)
class Scheduled:
    """A shelf that is to be refreshed by the clock. last: when it was due last, else since when it is served so."""

    shelf_id: int
    name: str
    number: int
    every: str
    last: datetime


@dataclass(frozen=True)
class RefreshProposal:
    """A version of a shelf that waits to be tried: from which version it came, on which version of the data."""

    id: int
    shelf: str
    from_number: int
    spec: ShelfSpec
    file: str
    version_id: int


def begin(connection: Connection, shelf: str, job_id: int, due_at: datetime | None) -> bool:
    """Note a refresh that a job will run; False where that time of the clock was noted before."""
    row = connection.execute(select(shelves).where(shelves.c.name == shelf)).one()
    values = {"shelf_id": row.id, "job_id": job_id, "due_at": due_at, "from_number": row.serving}
    inserted = connection.execute(upsert(refreshes).values(values).on_conflict_do_nothing().returning(refreshes.c.id))
    return inserted.one_or_none() is not None


def of_job(connection: Connection, job_id: int) -> Row[Any]:
    """The row of the refresh that a job runs."""
    return connection.execute(_query().where(refreshes.c.job_id == job_id)).one()


def get(connection: Connection, refresh_id: int) -> RefreshRecord:
    """One refresh."""
    return _refresh(connection.execute(_query().where(refreshes.c.id == refresh_id)).one())


def note(connection: Connection, refresh_id: int, outcome: dict[str, Any], state: str, reason: str | None) -> None:
    """How far a refresh is."""
    values = {"outcome": outcome, "state": state, "reason": reason}
    connection.execute(update(refreshes).where(refreshes.c.id == refresh_id).values(values))


def propose(
    connection: Connection, refresh_id: int, outcome: dict[str, Any], spec: ShelfSpec, file: str, version_id: int
) -> None:
    """Have a serving process try a version, and publish it if it stands."""
    proposal = {"spec": spec.model_dump(mode="json"), "file": file, "version_id": version_id}
    note(connection, refresh_id, outcome, "proposed", None)
    connection.execute(update(refreshes).where(refreshes.c.id == refresh_id).values(proposal=proposal))
    notify(connection, CHANNEL, str(refresh_id))


def take(connection: Connection, refresh_id: int) -> RefreshProposal | None:
    """A proposal, held for this transaction; None where another has it or it is decided."""
    query = _query().where(refreshes.c.id == refresh_id, refreshes.c.state == "proposed")
    row = connection.execute(query.with_for_update(of=refreshes, skip_locked=True)).one_or_none()
    if row is None:
        return None
    proposal = row.proposal
    spec = ShelfSpec.model_validate(proposal["spec"])
    return RefreshProposal(row.id, row.shelf, row.from_number, spec, proposal["file"], proposal["version_id"])


def waiting(connection: Connection) -> list[int]:
    """Proposals that nobody has tried."""
    return list(connection.scalars(select(refreshes.c.id).where(refreshes.c.state == "proposed")))


def publish(connection: Connection, refresh_id: int, number: int) -> None:
    """What is proposed is served."""
    values = {"state": "published", "published": number, "proposal": None}
    connection.execute(update(refreshes).where(refreshes.c.id == refresh_id).values(values))


def refuse(connection: Connection, refresh_id: int, reason: str) -> None:
    """What is proposed does not stand."""
    values = {"state": "refused", "reason": reason, "proposal": None}
    connection.execute(update(refreshes).where(refreshes.c.id == refresh_id).values(values))


def page(connection: Connection, shelf: str, *, after: str | None, limit: int) -> RecordPage[RefreshRecord]:
    """Refreshes of a shelf, newest first."""
    query = _query().where(shelves.c.name == shelf).order_by(refreshes.c.id.desc()).limit(limit + 1)
    if (last := after_id(after)) is not None:
        query = query.where(refreshes.c.id < last)
    return paged(connection.execute(query).all(), limit, "id", _refresh)


def scheduled(connection: Connection, shelf: str | None = None) -> list[Scheduled]:
    """Shelves whose served version names times, but for those of which a refresh is under way."""
    every = shelf_versions.c.spec["refresh"]["every"].as_string()
    due = select(refreshes.c.shelf_id, func.max(refreshes.c.due_at).label("due")).group_by(refreshes.c.shelf_id)
    since = select(shelf_servings.c.shelf_id, func.max(shelf_servings.c.at).label("since"))
    last, begun = due.subquery(), since.group_by(shelf_servings.c.shelf_id).subquery()
    query = (
        select(shelves.c.id, shelves.c.name, shelves.c.serving, every.label("every"), last.c.due, begun.c.since)
        .join(
            shelf_versions, (shelf_versions.c.shelf_id == shelves.c.id) & (shelf_versions.c.number == shelves.c.serving)
        )
        .join(begun, begun.c.shelf_id == shelves.c.id)
        .outerjoin(last, last.c.shelf_id == shelves.c.id)
        .where(every.is_not(None))
    )
    if shelf is not None:
        query = query.where(shelves.c.name == shelf)
    return [
        Scheduled(row.id, row.name, row.serving, row.every, max(row.since, row.due or row.since))
        for row in connection.execute(query)
    ]


def is_running(connection: Connection, shelf_id: int) -> bool:
    """Whether a refresh of a shelf has not ended."""
    open_jobs = jobs.c.state.in_([JobState.QUEUED.value, JobState.RUNNING.value])
    query = select(refreshes.c.id).join(jobs, jobs.c.id == refreshes.c.job_id)
    return connection.scalar(query.where(refreshes.c.shelf_id == shelf_id, open_jobs).limit(1)) is not None


def _query() -> Select[Any]:
    return (
        select(refreshes, shelves.c.name.label("shelf"), jobs.c.state.label("job_state"), jobs.c.problem)
        .join(shelves, shelves.c.id == refreshes.c.shelf_id)
        .join(jobs, jobs.c.id == refreshes.c.job_id)
    )


def _refresh(row: Row[Any]) -> RefreshRecord:
    state, reason = row.state, row.reason
    if state == "running" and row.job_state in ("failed", "cancelled"):
        state, reason = row.job_state, (row.problem or {}).get("detail")
    outcome = row.outcome
    guard = outcome.get("guard")
    return RefreshRecord(
        id=row.id,
        shelf=row.shelf,
        state=state,
        job=row.job_id,
        due_at=row.due_at,
        began_from=f"{row.shelf}@{row.from_number}",
        published=None if row.published is None else f"{row.shelf}@{row.published}",
        reason=reason,
        created_at=row.created_at,
        data=outcome.get("data"),
        events=outcome.get("events"),
        models=outcome.get("models", {}),
        guard=None if guard is None else GuardOutcome.model_validate(guard),
    )
