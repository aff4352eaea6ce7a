"""What came back of served lists, and how events come in: the figures of a live view."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from sqlalchemy import Connection, text

from gleaner.store.records.events import ListsBackRecord

PLACES = 10
LOOKED = 20_000
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
SHOWN = f"""
SELECT l.shelf, count(DISTINCT item) AS items FROM (
    SELECT shelf, items FROM served_lists WHERE at >= :since AND shelf IN ({OF_DATASET}) ORDER BY at DESC LIMIT {LOOKED}
) l, unnest(l.items) item GROUP BY l.shelf
"""
PER_MINUTE = """
SELECT floor(extract(epoch FROM now() - received_at) / 60)::int AS ago, count(*) AS n
FROM events WHERE dataset_id = :dataset AND received_at > now() - interval '60 minutes' GROUP BY 1
"""
LISTS_PER_MINUTE = f"""
SELECT floor(extract(epoch FROM now() - at) / 60)::int AS ago, count(*) AS n
FROM served_lists WHERE at > now() - interval '60 minutes' AND shelf IN ({OF_DATASET}) GROUP BY 1
"""
OF_LAST_HOUR = """
SELECT shelf, count(*) AS n FROM served_lists WHERE at > now() - interval '60 minutes' GROUP BY 1
"""
COUNTED = """
SELECT coalesce({column}::text, '') AS name, count(*) AS n FROM events
WHERE dataset_id = :dataset AND received_at >= :since {more} GROUP BY 1 ORDER BY 2 DESC, 1
"""


def lists_back(connection: Connection, dataset_id: int, since: datetime) -> list[ListsBackRecord]:
    """Lists served since a moment by the shelves of a dataset, and the events that name them, the busiest first."""
    given = {"dataset": dataset_id, "since": since}
    answered = {row.shelf: row for row in connection.execute(text(ANSWERED), given)}
    shown = {row.shelf: row.items for row in connection.execute(text(SHOWN), given)}
    places: dict[str, list[int]] = {}
    for row in connection.execute(text(BY_PLACE), given):
        if row.place is not None and row.place <= PLACES:
            places.setdefault(row.shelf, [0] * PLACES)[row.place - 1] = row.events
    return [
        ListsBackRecord(
            shelf=row.shelf,
            lists=row.lists,
            users=row.users,
            fallbacks=row.fallbacks,
            answered=answered[row.shelf].lists if row.shelf in answered else 0,
            events=answered[row.shelf].events if row.shelf in answered else 0,
            by_place=places.get(row.shelf, [0] * PLACES),
            items_shown=shown.get(row.shelf, 0),
        )
        for row in connection.execute(text(SERVED), given)
    ]


def per_minute(connection: Connection, dataset_id: int) -> tuple[list[int], list[int]]:
    """Events received and lists served in each of the last sixty minutes, oldest first."""
    series = []
    for query in (PER_MINUTE, LISTS_PER_MINUTE):
        counts = {row.ago: row.n for row in connection.execute(text(query), {"dataset": dataset_id})}
        series.append([counts.get(ago, 0) for ago in reversed(range(60))])
    return series[0], series[1]


def lists_last_hour(connection: Connection) -> dict[str, int]:
    """Lists of each shelf in the last sixty minutes."""
    return {row.shelf: row.n for row in connection.execute(text(OF_LAST_HOUR))}


def counted(
    connection: Connection, dataset_id: int, since: datetime, column: Literal["kind", "user_id", "item_id", "value"]
) -> dict[str, int]:
    """Events received since a moment by what stands in a column, the most frequent first; kinds that are missing under
    the empty text, values that are missing left out."""
    more = "AND value IS NOT NULL" if column == "value" else ""
    query = text(COUNTED.format(column=column, more=more))
    rows = connection.execute(query, {"dataset": dataset_id, "since": since})
    return {row.name: row.n for row in rows}
