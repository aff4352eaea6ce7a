"""What was made of recommendation lists: the jobs that scored or analysed some, found again by their results."""

from __future__ import annotations

from typing import Any, Literal

from sqlalchemy import Connection, Row, Select, select

from gleaner.store import datasets
from gleaner.store.database.pages import after_id, paged
from gleaner.store.database.tables import jobs
from gleaner.store.records.lists import ListWorkRecord
from gleaner.store.records.pages import RecordPage
from gleaner.wire.jobs import JobState
from gleaner.wire.names import split_name

WORK: dict[str, Literal["scores", "analysis"]] = {"score-lists": "scores", "analyse-lists": "analysis"}
"""Kinds of job, and what each is called."""

LABEL, DATA, BESIDE = (jobs.c.result[name].as_string() for name in ("label", "data", "beside"))
USERS = jobs.c.result["users"].as_integer()


def page(
    connection: Connection, *, after: str | None, limit: int, data: str | None = None
) -> RecordPage[ListWorkRecord]:
    """Lists scored or analysed, newest first; `data` names a dataset or one of its versions. Raises UnknownNameError
    when there is no such dataset."""
    columns = (jobs.c.id, jobs.c.kind, jobs.c.finished_at, LABEL.label("label"), DATA.label("data"))
    query: Select[Any] = (
        select(*columns, BESIDE.label("beside"), USERS.label("users"))
        .where(jobs.c.kind.in_(WORK), jobs.c.state == JobState.DONE.value, jobs.c.result.is_not(None))
        .order_by(jobs.c.id.desc())
        .limit(limit + 1)
    )
    if (last := after_id(after)) is not None:
        query = query.where(jobs.c.id < last)
    if data is not None:
        version = datasets.version(connection, data).name
        name, number = split_name(data, "dataset version")
        query = query.where(version == DATA if number else DATA.startswith(f"{name}@", autoescape=True))
    return paged(connection.execute(query).all(), limit, "id", _work)


def _work(row: Row[Any]) -> ListWorkRecord:
    return ListWorkRecord(
        job=row.id,
        work=WORK[row.kind],
        label=row.label,
        data=row.data,
        beside=row.beside,
        users=row.users,
        ended_at=row.finished_at,
    )
