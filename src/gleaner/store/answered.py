"""What came back of served lists, and how events come in: the figures of a live view."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Connection, text

from gleaner.wire.events import ListsBack

PLACES = 10
OF_DATASET = """
SELECT DISTINCT s.name FROM shelves s JOIN shelf_versions sv ON sv.shelf_id = s.id
JOIN versions v ON v.id = sv.version_id WHERE v.dataset_id = :dataset
"""
SERVED = f"""
SELECT shelf, count(*) AS lists, count(DISTINCT user_id) AS users, count(fallback) AS fallbacks
FROM served_lists WHERE at >= :since AND shelf IN ({OF_DATASET}) GROUP BY shelf ORDER BY lists DESC, shelf
"""
ANSWERED = f"""
SELECT l.shelf, count(DISTINCT l.list_id) AS lists, count(*) AS events
FROM events e JOIN served_lists l ON l.list_id = e.list_id
WHERE e.dataset_id = :dataset AND l.at >= :since AND l.shelf IN ({OF_DATASET}) GROUP BY l.shelf
"""
BY_PLACE = """
SELECT l.shelf, array_position(l.items, e.item_id) AS place, count(*) AS events
FROM events e JOIN served_lists l ON l.list_id = e.list_id
WHERE e.dataset_id = :dataset AND l.at >= :since GROUP BY 1, 2
"""
PER_MINUTE = """
SELECT floor(extract(epoch FROM now() - received_at) / 60)::int AS ago, count(*) AS events
FROM events WHERE dataset_id = :dataset AND received_at > now() - interval '60 minutes' GROUP BY 1
"""
BY_KIND = """
SELECT coalesce(kind, '') AS kind, count(*) AS events FROM events
WHERE dataset_id = :dataset AND received_at >= :since GROUP BY 1 ORDER BY 2 DESC, 1
"""


def lists_back(connection: Connection, dataset_id: int, since: datetime) -> list[ListsBack]:
    """Lists served since a moment by the shelves of a dataset, and the events that name them, the busiest first."""
    given = {"dataset": dataset_id, "since": since}
    answered = {row.shelf: row for row in connection.execute(text(ANSWERED), given)}
    places: dict[str, list[int]] = {}
    for row in connection.execute(text(BY_PLACE), given):
        if row.place is not None and row.place <= PLACES:
            places.setdefault(row.shelf, [0] * PLACES)[row.place - 1] = row.events
    return [
        ListsBack(
            shelf=row.shelf,
            lists=row.lists,
            users=row.users,
            fallbacks=row.fallbacks,
            answered=answered[row.shelf].lists if row.shelf in answered else 0,
            events=answered[row.shelf].events if row.shelf in answered else 0,
            by_place=places.get(row.shelf, [0] * PLACES),
        )
        for row in connection.execute(text(SERVED), given)
    ]


def per_minute(connection: Connection, dataset_id: int) -> list[int]:
    """Events received in each of the last sixty minutes, oldest first."""
    found = {row.ago: row.events for row in connection.execute(text(PER_MINUTE), {"dataset": dataset_id})}
    return [found.get(ago, 0) for ago in reversed(range(60))]


def by_kind(connection: Connection, dataset_id: int, since: datetime) -> dict[str, int]:
    """Events received since a moment, the most frequent kind first; those without one under the empty text."""
    rows = connection.execute(text(BY_KIND), {"dataset": dataset_id, "since": since})
    return {row.kind: row.events for row in rows}


def ids_since(connection: Connection, dataset_id: int, since: datetime) -> dict[str, list[Any]]:
    """Different users and items of the events received since a moment."""
    found = {}
    for side in ("user", "item"):
        query = f"SELECT DISTINCT {side}_id FROM events WHERE dataset_id = :dataset AND received_at >= :since"
        rows = connection.execute(text(query), {"dataset": dataset_id, "since": since})
        found[side] = list(rows.scalars())
    return found
