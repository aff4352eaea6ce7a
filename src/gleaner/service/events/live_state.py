"""What a dataset's events, changes and lists look like just now, beside the version that models learned from."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl
from sqlalchemy import Connection

from gleaner.core.data.compare import by_chance, compare, shares
from gleaner.service.datasets.tables import activity_of
from gleaner.service.http.state import Service
from gleaner.store import datasets, events, list_responses, live_columns
from gleaner.wire.datasets import Drift, Profile
from gleaner.wire.events import ListsBack, LiveDrift, LiveState

LEAST_VALUES = 30
"""With fewer values no drift is reported: one value alone would be as far from any histogram as can be."""


def live_state(service: Service, connection: Connection, data: str, days: float) -> LiveState:
    """Counts and drift since the newest version, and lists of the last days. Raises UnknownNameError."""
    newest = datasets.newest(connection, data)
    here, since = newest.dataset_id, newest.created_at
    count, last_at = events.count(connection, here, since)
    files = datasets.files_by_id(connection, newest.version_id)
    users, items = (activity_of(service, files, role) for role in ("user", "item"))
    events_of_users = list_responses.counted(connection, here, since, "user_id")
    events_of_items = list_responses.counted(connection, here, since, "item_id")
    new_users = events_of_users.keys() - set(users["id"])
    new_items = events_of_items.keys() - set(items["id"])
    kinds = list_responses.counted(connection, here, since, "kind")
    drift = None
    if count:
        profile = datasets.version(connection, newest.name).profile
        drift = _drift(items, events_of_items, kinds, profile)
        drift.unknown_users = sum(events_of_users[each] for each in new_users) / count
        drift.unknown_items = sum(events_of_items[each] for each in new_items) / count
        _compare_values(drift, profile, list_responses.counted(connection, here, since, "value"))
    events_per_minute, lists_per_minute = list_responses.per_minute(connection, here)
    back = list_responses.lists_back(connection, here, datetime.now(UTC) - timedelta(days=days))
    return LiveState(
        data=data,
        version=newest.name,
        events=count,
        in_memory=len(service.live.rows(here)),
        last_at=last_at,
        events_per_minute=events_per_minute,
        lists_per_minute=lists_per_minute,
        by_kind=kinds,
        users_new=len(new_users),
        items_new=len(new_items),
        changed_rows=live_columns.count_rows(connection, here, newest.changes_upto),
        catalogue=items.height,
        drift=drift,
        lists=[ListsBack.of_record(each) for each in back],
        waits=service.meters.waits(),
    )


def _drift(items: pl.DataFrame, by_item: dict[str, int], kinds: dict[str, int], profile: Profile) -> LiveDrift:
    after = pl.DataFrame(
        {"id": list(by_item), "rows": list(by_item.values())},
        schema={"id": pl.String, "rows": pl.Int64},
    )
    drift = compare(items, after)
    before_kinds = {each.kind or "": float(each.rows) for each in profile.kinds or []}
    moved = shares(before_kinds, {name: float(n) for name, n in kinds.items()})[1] if before_kinds else []
    return LiveDrift(
        popularity=drift["drift"],
        popularity_by_chance=by_chance(items["rows"].to_numpy(), sum(by_item.values())),
        movers=[Drift(**each) for each in drift["movers"]],
        kinds=[Drift(**each) for each in moved],
        unknown_users=0.0,
        unknown_items=0.0,
    )


def _compare_values(drift: LiveDrift, profile: Profile, by_value: dict[str, int]) -> None:
    """Values by the bins of the version's histogram; those outside it go to the nearest. Nothing of too few."""
    if profile.values is None or not profile.values.histogram or profile.values.mean is None:
        return
    if sum(by_value.values()) < LEAST_VALUES:
        return
    edges = np.array([each.at for each in profile.values.histogram])
    rows = np.array([each.rows for each in profile.values.histogram], dtype=float)
    values, counts = (
        np.array([float(name) for name in by_value]),
        np.array(list(by_value.values()), dtype=float),
    )
    if profile.values.binned:
        place = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, len(edges) - 1)
    else:
        place = np.abs(values[:, None] - edges[None, :]).argmin(axis=1)
    binned = np.bincount(place, weights=counts, minlength=len(edges))
    names = [f"{edge:g}" for edge in edges]
    drift.values = shares(dict(zip(names, rows, strict=True)), dict(zip(names, binned, strict=True)))[0]
    drift.values_by_chance = by_chance(rows, int(counts.sum()))
    drift.value_means = profile.values.mean, float((values * counts).sum() / counts.sum())
