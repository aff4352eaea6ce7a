"""What is served and how it does, put together from what the store and the live view say."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection

from gleaner.jobs.worker.schedules import next_after
from gleaner.service.events.live_state import live_state
from gleaner.service.http.state import Service
from gleaner.service.overview import attention
from gleaner.store import jobs, list_responses, refreshes, shelves, totals
from gleaner.store.records.shelves import ShelfRecord
from gleaner.wire.events import ListsBack, LiveState
from gleaner.wire.jobs import Job
from gleaner.wire.overview import Overview, ServedData, ServedShelf, Totals
from gleaner.wire.shelves.refreshes import Refresh

MOST_SHELVES, MOST_JOBS = 100, 200
LIST_ROUTES = "/recommendations"


def overview_of(service: Service, connection: Connection) -> Overview:
    """The installation as it stands now."""
    now = datetime.now(UTC)
    listed = shelves.page(connection, after=None, limit=MOST_SHELVES).items
    names = sorted({each.data.partition("@")[0] for each in listed})
    states = {name: live_state(service, connection, name, days=1.0) for name in names}
    last_hour = list_responses.lists_last_hour(connection)
    served = [_served(connection, each, states[each.data.partition("@")[0]], last_hour) for each in listed]
    data = [_data(state) for state in states.values()]
    newest_jobs = jobs.page(connection, after=None, limit=MOST_JOBS).items
    running = [Job.of_record(each) for each in newest_jobs if not each.state.ended]
    told = attention.of_jobs([each for each in newest_jobs if each.state.ended], now - timedelta(days=1))
    for shelf in served:
        told += attention.of_shelf(shelf, now)
    for each in data:
        told += attention.of_data(each)
    waits = [each for each in service.meters.waits() if each.route.endswith(LIST_ROUTES)]
    return Overview(
        totals=Totals(**totals.counted(connection)),
        shelves=served,
        datasets=data,
        lists=waits,
        running=running,
        attention=told,
    )


def _served(connection: Connection, shelf: ShelfRecord, state: LiveState, last_hour: dict[str, int]) -> ServedShelf:
    back = next((each for each in state.lists if each.shelf == shelf.shelf), None)
    newest = refreshes.page(connection, shelf.shelf, after=None, limit=1).items
    scheduled = refreshes.scheduled(connection, shelf.shelf)
    next_at = next_after(scheduled[0].every, scheduled[0].last) if scheduled else None
    return ServedShelf(
        shelf=shelf.shelf,
        title=shelf.title,
        serving=shelf.serving,
        data=shelf.data,
        lists=back.lists if back else 0,
        lists_last_hour=last_hour.get(shelf.shelf, 0),
        users=back.users if back else 0,
        fallbacks=_share(back, "fallbacks"),
        catalogue_shown=back.items_shown / state.catalogue if back and state.catalogue else None,
        answered=_share(back, "answered"),
        refresh=Refresh.of_record(newest[0]) if newest else None,
        next_refresh_at=next_at,
        never_refreshed=bool(scheduled) and next_at is None,
    )


def _share(back: ListsBack | None, what: str) -> float | None:
    return float(getattr(back, what)) / back.lists if back and back.lists else None


def _data(state: LiveState) -> ServedData:
    drift = state.drift
    return ServedData(
        data=state.data,
        version=state.version,
        events=state.events,
        last_at=state.last_at,
        popularity_drift=drift.popularity if drift else None,
        drift_by_chance=drift.popularity_by_chance if drift else None,
    )
