"""What a dataset's events, changes and lists look like just now."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection

from gleaner.service.state import Service
from gleaner.store import answered, datasets, events, live_columns
from gleaner.wire.events import LiveState


def live_state(service: Service, connection: Connection, data: str, days: float) -> LiveState:
    """Counts since the newest version, and lists of the last days. Raises NotFoundError."""
    newest = datasets.newest(connection, data)
    since = newest.created_at
    count, last_at = events.count(connection, newest.dataset_id, since)
    told = answered.ids_since(connection, newest.dataset_id, since)
    files = datasets.files_by_id(connection, newest.version_id)
    activity = {"user": files.user_activity_file, "item": files.item_activity_file}
    new = {}
    for side, digest in activity.items():
        known = set() if digest is None else set(service.library.frame(digest)["id"])
        new[side] = sum(each not in known for each in told[side])
    return LiveState(
        data=data,
        version=newest.name,
        events=count,
        in_memory=len(service.live.rows(newest.dataset_id)),
        last_at=last_at,
        per_minute=answered.per_minute(connection, newest.dataset_id),
        by_kind=answered.by_kind(connection, newest.dataset_id, since),
        users_new=new["user"],
        items_new=new["item"],
        changed_rows=live_columns.count_rows(connection, newest.dataset_id, since),
        lists=answered.lists_back(connection, newest.dataset_id, datetime.now(UTC) - timedelta(days=days)),
    )
