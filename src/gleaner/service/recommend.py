"""From one request to one list."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

import numpy as np

from gleaner.core.fitted import Fitted
from gleaner.core.ranking.topn import Lists
from gleaner.service.library import ItemTable

NOBODY, NO_VALUES = np.empty(0, dtype=np.int32), np.empty(0, dtype=np.float32)
"""The history of someone who has none."""


@dataclass(eq=False)
class Person:
    """Who a list is for, in the rows of one model: row is None where training never saw them."""

    user: str | None
    row: int | None
    history: np.ndarray
    values: np.ndarray
    recent: np.ndarray
    named: int

    @classmethod
    def of(cls, loaded: Fitted, user: str | None, recent: list[str]) -> Person:
        """Look someone up. Recent items that the model does not know are passed over."""
        row = loaded.train.users.row(user) if user is not None else None
        history, values = (NOBODY, NO_VALUES) if row is None else loaded.train.history(row)
        rows = loaded.train.items.rows(recent) if recent else NOBODY
        return cls(user, row, history, values, np.unique(rows[rows >= 0]) if recent else rows, len(set(recent)))


class Stages:
    """Counts and times of the stages of one list."""

    def __init__(self) -> None:
        self._noted: list[tuple[str, int, float]] = []
        self._begun = time.perf_counter()

    def note(self, stage: str, items: int) -> None:
        """End a stage."""
        self._noted.append((stage, items, time.perf_counter()))

    def rows(self) -> list[dict[str, Any]]:
        """The stages so far: the fields of `Stage`."""
        before = self._begun
        found: list[dict[str, Any]] = []
        for stage, items, ended in self._noted:
            found.append({"stage": stage, "items": items, "milliseconds": round((ended - before) * 1000, 3)})
            before = ended
        return found


def personal_best(
    loaded: Fitted, person: Person, n: int, allowed: np.ndarray | None, left_out: np.ndarray
) -> tuple[Lists, str | None] | None:
    """The n best items for this person, and what stood in for a trained history, or None where nothing can.

    Recent items are folded in with the rest of the history, each counting as a typical interaction. Someone unknown is
    served from their recent items alone. allowed: bool (n_items,); left_out: rising item rows.
    """
    if len(person.recent) and loaded.model.folds_in:
        fresh = np.setdiff1d(person.recent, person.history)
        items = np.concatenate([person.history, fresh])
        values = np.concatenate([person.values, np.full(len(fresh), loaded.typical_value, dtype=np.float32)])
        lists = loaded.best_from(items, values, n, allowed, left_out)
        if person.row is not None:
            return lists, None
        who = "an anonymous user" if person.user is None else f"user {person.user!r}, whom training never saw"
        known = len(person.recent)
        count = f"{known} of {person.named}" if known < person.named else f"{known}"
        return lists, f"folded in: {who}, from {count} recent item{'s' if person.named > 1 else ''}"
    if person.row is not None:
        return loaded.best_for(person.row, n, allowed, left_out), None
    return None


def why_not_personal(person: Person) -> str:
    """Why someone gets the fallback."""
    who = "no user was named" if person.user is None else f"training never saw user {person.user!r}"
    if person.named:
        return f"{who}, and none of the recent items ({person.named}) is known"
    return f"{who}, and no recent items were given"


def as_places(loaded: Fitted, lists: Lists, table: ItemTable, show: list[str]) -> list[dict[str, Any]]:
    """Rows of a list as places of an answer: the fields of `Recommended`."""
    ids = loaded.train.items.take(lists.items)
    columns = table.of_many(ids, show)
    return [
        {
            "item": item,
            "position": place,
            "score": score,
            "source": loaded.name,
            "promoted": False,
            "propensity": None,
            "reason": None,
            "columns": cells,
        }
        for place, (item, score, cells) in enumerate(zip(ids, lists.scores.tolist(), columns, strict=True), start=1)
    ]
