"""Refreshes that the clock asks for: queued once each, whichever worker looks first."""

from __future__ import annotations

import logging
from datetime import UTC, datetime

import procrastinate
from croniter import croniter
from sqlalchemy import Engine, text

from gleaner.store import refreshes
from gleaner.store.database.queue import submit

LOCK = 7_316_042
log = logging.getLogger("gleaner.worker")


def next_after(every: str, last: datetime) -> datetime:
    """The first moment of a cron text after another, in UTC."""
    return croniter(every, last.astimezone(UTC)).get_next(datetime)


def due_at(every: str, last: datetime, now: datetime) -> datetime | None:
    """The newest moment since `last` that has come, or None. Those that nobody was there for are made up for once."""
    if next_after(every, last) > now:
        return None
    newest = croniter(every, now.astimezone(UTC)).get_prev(datetime)
    exact = croniter(every, newest).get_next(datetime)
    return exact if exact <= now else newest


def queue_due(engine: Engine, app: procrastinate.App, now: datetime) -> list[str]:
    """Queue what is due; answers the shelves."""
    queued = []
    with engine.begin() as connection:
        # two workers that look at once would queue a job each before one of them finds the moment taken
        if not connection.scalar(text("SELECT pg_try_advisory_xact_lock(:lock)"), {"lock": LOCK}):
            return []
        for each in refreshes.scheduled(connection):
            moment = due_at(each.every, each.last, now)
            if moment is None or refreshes.is_running(connection, each.shelf_id):
                continue
            job_id = submit(connection, app, "refresh", each.name, {"only_judge": False})
            refreshes.begin(connection, each.name, job_id, moment)
            queued.append(each.name)
    for name in queued:
        log.info("refresh of %s is due", name)
    return queued
