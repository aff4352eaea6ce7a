"""What needs a person's attention, and why, in sentences."""

from __future__ import annotations

from datetime import datetime, timedelta

from gleaner.store.records.jobs import JobRecord
from gleaner.wire.jobs import JobState
from gleaner.wire.overview import Attention, ServedData, ServedShelf

MANY_FALLBACKS, LEAST_LISTS = 0.2, 50
"""From this share of lists on, fallbacks are told of; with fewer lists a share says little."""

BEYOND_CHANCE = 1.25
"""Drift is told of from so many times on what chance alone would show."""

LEAST_EVENTS = 200
OVERDUE = timedelta(minutes=10)


def of_jobs(ended: list[JobRecord], since: datetime) -> list[Attention]:
    """Jobs that failed since a moment, and that none of the same sort and subject has made good. ended: newest
    first."""
    told: list[Attention] = []
    made_good: set[tuple[str, str]] = set()
    for job in ended:
        same = job.kind, job.subject
        if job.state is JobState.DONE:
            made_good.add(same)
        elif job.state is JobState.FAILED and same not in made_good and job.finished_at and job.finished_at >= since:
            reason = job.problem.detail if job.problem else "no reason is known"
            told.append(Attention(about="job", name=str(job.id), text=f"{job.kind} {job.subject} failed: {reason}"))
            # an older failure of the same says nothing new
            made_good.add(same)
    return told


def of_shelf(shelf: ServedShelf, now: datetime) -> list[Attention]:
    """Lists that fell back, a refresh that was refused or failed, and one that is overdue."""
    told = []
    if shelf.fallbacks is not None and shelf.fallbacks >= MANY_FALLBACKS and shelf.lists >= LEAST_LISTS:
        told.append(f"{shelf.fallbacks:.0%} of {shelf.lists:,} lists were made by a fallback in the last day")
    newest = shelf.refresh
    if newest is not None and newest.state in ("refused", "failed"):
        how = "failed" if newest.state == "failed" else "was refused"
        told.append(f"the newest refresh {how}: {newest.reason or 'no reason is known'}")
    if shelf.next_refresh_at is not None and now - shelf.next_refresh_at > OVERDUE:
        told.append(f"a refresh was due at {shelf.next_refresh_at:%Y-%m-%d %H:%M} UTC and has not begun")
    if shelf.never_refreshed:
        told.append("its refresh schedule names no date that occurs, so it is never refreshed; publish it with another")
    return [Attention(about="shelf", name=shelf.shelf, text=f"{shelf.shelf}: {text}") for text in told]


def of_data(data: ServedData) -> list[Attention]:
    """Drift that chance does not explain."""
    drift, chance = data.popularity_drift, data.drift_by_chance
    if drift is None or chance is None or data.events < LEAST_EVENTS or drift <= BEYOND_CHANCE * chance:
        return []
    text = (
        f"{data.data}: the popularity of items in {data.events:,} events is {drift:.2f} from that of {data.version}, "
        f"where chance alone would show {chance:.2f}"
    )
    return [Attention(about="dataset", name=data.data, text=text)]
