"""Explains what events on items or users can change that a dataset's newest version lacks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import polars as pl

from gleaner.service.datasets.tables import activity_of
from gleaner.service.http.state import Service
from gleaner.store import datasets
from gleaner.store.datasets import VersionFiles
from gleaner.wire.events import Event

MOST_EXPLAINED = 20
"""Events of one batch whose ids are looked up."""


def unknown_notes(service: Service, dataset: str, events: Sequence[Event]) -> list[str]:
    """Return a sentence for each item and user of the first events without an interaction in the newest version."""
    events = events[:MOST_EXPLAINED]
    with service.engine.begin() as connection:
        files = datasets.files(connection, datasets.newest(connection, dataset).name)
    items = _unknown(service, files, "item", [event.item for event in events])
    users = _unknown(service, files, "user", [event.user for event in events])
    in_table = service.library.items_of(files)
    return [
        *(_of_item(item, files.name, is_in_table=in_table.row_of(item) is not None) for item in items),
        *(_of_user(user, files.name) for user in users),
    ]


def _unknown(service: Service, files: VersionFiles, side: Literal["user", "item"], ids: list[str]) -> list[str]:
    """Return the ids without an interaction, each once, in their order."""
    wanted_ids = pl.Series(list(dict.fromkeys(ids)), dtype=pl.String)
    activity = activity_of(service, files, side)
    known_ids = set(activity.filter((pl.col("rows") > 0) & pl.col("id").is_in(wanted_ids.implode()))["id"].to_list())
    return [each for each in wanted_ids.to_list() if each not in known_ids]


def _of_item(item: str, version: str, *, is_in_table: bool) -> str:
    if is_in_table:
        return (
            f"item {item!r} has no interaction in {version}, but a row in its item table: it is left out of the user's "
            "lists, and models learn of it once a version holds this event and they are fitted on it"
        )
    return (
        f"item {item!r} is neither in the interactions nor in the item table of {version}: the event is kept, and "
        "changes no list until a version holds it and models are fitted on that"
    )


def _of_user(user: str, version: str) -> str:
    return (
        f"user {user!r} has no interaction in {version}: lists are computed from the events where the model of the "
        "shelf can do that, and come from its fallback elsewhere"
    )
