"""Refreshes that the clock asks for: queued once each, whichever worker looks first."""

from __future__ import annotations

import logging
from datetime import UTC, datetime

import procrastinate
from croniter import croniter
from croniter.croniter import CroniterError
from sqlalchemy import Connection, Engine, text
from sqlalchemy.exc import OperationalError

from gleaner.store import refreshes
from gleaner.store.database.queue import submit

LOCK = 7_316_042
log = logging.getLogger("gleaner.worker")


YEARS_AHEAD = 8
"""A schedule that names no date within so many years never occurs; 29 February comes at least once."""


def next_after(every: str, last: datetime) -> datetime | None:
    """Return the first moment of a cron text after another, in UTC; None where it names no date that occurs."""
    try:
        return croniter(every, last.astimezone(UTC), max_years_between_matches=YEARS_AHEAD).get_next(datetime)
    except CroniterError:
        return None


def due_at(every: str, last: datetime, now: datetime) -> datetime | None:
    """Return the newest moment since `last` that has come, or None. Missed moments are made up for once."""
    following = next_after(every, last)
    if following is None or following > now:
        return None
    newest = croniter(every, now.astimezone(UTC), max_years_between_matches=YEARS_AHEAD).get_prev(datetime)
    exact = croniter(every, newest).get_next(datetime)
    return exact if exact <= now else newest


def queue_due(engine: Engine, app: procrastinate.App, now: datetime) -> list[str]:
    """Queue the refreshes that are due, and return their shelves. One that fails is logged and holds up no other."""
    queued = []
    with engine.begin() as connection:
        # two workers that look at once would queue a job each before one of them finds the moment taken
        if not connection.scalar(text("SELECT pg_try_advisory_xact_lock(:lock)"), {"lock": LOCK}):
            return []
        for shelf in refreshes.scheduled(connection):
            try:
                with connection.begin_nested():
                    if _queue_if_due(connection, app, shelf, now):
                        queued.append(shelf.name)
            except OperationalError:
                raise
            except Exception:
                log.exception("the schedule of shelf %s could not be looked at", shelf.name)
    for name in queued:
        log.info("refresh of %s is due", name)
    return queued


def _queue_if_due(connection: Connection, app: procrastinate.App, shelf: refreshes.Scheduled, now: datetime) -> bool:
    """Queue one shelf's refresh if it is due and none runs. Return whether it was queued."""
    moment = due_at(shelf.every, shelf.last, now)
    if moment is None or refreshes.is_running(connection, shelf.shelf_id):
        return False
    job_id = submit(connection, app, "refresh", shelf.name, {"only_judge": False})
    refreshes.begin(connection, shelf.name, job_id, moment)
    return True
