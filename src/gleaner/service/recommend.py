"""From one request to one list."""

from __future__ import annotations

import time
from dataclasses import dataclass, field

import numpy as np

from gleaner.core.fitted import Fitted
from gleaner.core.ranking.topn import Lists, top_of
from gleaner.service.library import ItemTable
from gleaner.wire.models import Recommended
from gleaner.wire.shelves import Stage


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
        empty = np.empty(0, dtype=np.int32), np.empty(0, dtype=np.float32)
        history, values = empty if row is None else loaded.train.history(row)
        rows = loaded.train.items.rows(recent)
        return cls(user, row, history, values, np.unique(rows[rows >= 0]), len(set(recent)))


@dataclass
class Stages:
    """Counts and times of the stages of one list."""

    rows: list[Stage] = field(default_factory=list)
    _begun: float = field(default_factory=time.perf_counter)

    def note(self, stage: str, items: int) -> None:
        """End a stage."""
        now = time.perf_counter()
        self.rows.append(Stage(stage=stage, items=items, milliseconds=round((now - self._begun) * 1000, 3)))
        self._begun = now


def personal_scores(loaded: Fitted, person: Person) -> tuple[np.ndarray, str | None] | None:
    """Scores of every item for this person, and what stood in for a trained history, or None where nothing can.

    Recent items are folded in with the rest of the history, each counting as a typical interaction. Someone unknown is
    served from their recent items alone.
    """
    model = loaded.model
    if len(person.recent) and model.folds_in:
        fresh = np.setdiff1d(person.recent, person.history)
        typical = np.float32(np.median(loaded.train.values))
        items = np.concatenate([person.history, fresh])
        values = np.concatenate([person.values, np.full(len(fresh), typical, dtype=np.float32)])
        scores = model.scores_of(model.fold_in(items, values))
        if person.row is not None:
            return scores, None
        who = "an anonymous user" if person.user is None else f"user {person.user!r}, whom training never saw"
        known = len(person.recent)
        count = f"{known} of {person.named}" if known < person.named else f"{known}"
        return scores, f"folded in: {who}, from {count} recent item{'s' if person.named > 1 else ''}"
    if person.row is not None:
        return model.scores(np.array([person.row], dtype=np.int32))[0], None
    return None


def why_not_personal(person: Person) -> str:
    """Why someone gets the fallback."""
    who = "no user was named" if person.user is None else f"training never saw user {person.user!r}"
    if person.named:
        return f"{who}, and none of the recent items ({person.named}) is known"
    return f"{who}, and no recent items were given"


def best(loaded: Fitted, scores: np.ndarray, n: int, left_out: np.ndarray) -> Lists:
    """The n best items, some left out."""
    return top_of(scores, n, loaded.ties, left_out)


def as_places(loaded: Fitted, lists: Lists, table: ItemTable, show: list[str]) -> list[Recommended]:
    """Rows of a list as places of an answer."""
    ids = loaded.train.items.take(lists.items)
    return [
        Recommended(item=item, position=place, score=float(score), source=loaded.name, columns=table.of(item, show))
        for place, (item, score) in enumerate(zip(ids, lists.scores, strict=True), start=1)
    ]
