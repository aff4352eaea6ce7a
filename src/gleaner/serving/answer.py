"""The last stage of a list: what is answered, column by column, and as the fields of the API's message."""

from __future__ import annotations

import secrets
import time
from dataclasses import dataclass
from typing import Any

from gleaner.serving.context import StandIn

CHANCES = 256


@dataclass(frozen=True, eq=False)
class AnswerPlaces:
    """The places of a list, in order, each a column: ids, scores (NaN: nothing scored it), what brought each in,
    whether it was promoted, with what chance it stands there (None: by no chance), why (None: nobody asked), and the
    item columns to show. n_explained: positions, from the first, whose reason was looked for."""

    items: list[str]
    scores: list[float]
    sources: list[str]
    promoted: list[bool]
    propensity: list[float | None]
    reasons: list[str | None]
    columns: list[dict[str, Any]]
    n_explained: int = 0

    def fields(self) -> list[dict[str, Any]]:
        """Each place as the fields of a `Recommended`."""
        return [
            {
                "item": item,
                "position": position,
                "score": None if score != score else score,  # NaN is no number of JSON
                "source": source,
                "promoted": promoted,
                "propensity": propensity,
                "reason": reason,
                "columns": columns,
            }
            for position, (item, score, source, promoted, propensity, reason, columns) in enumerate(
                zip(
                    self.items,
                    self.scores,
                    self.sources,
                    self.promoted,
                    self.propensity,
                    self.reasons,
                    self.columns,
                    strict=True,
                ),
                start=1,
            )
        ]


@dataclass(frozen=True, eq=False)
class Answer:
    """One list of a shelf. left_out: items that could not be listed, by reason. note: why there are fewer than were
    asked for. stages: counts and times, where asked for."""

    list_id: str
    shelf: str
    version: int
    model: str
    user: str | None
    asked: int
    places: AnswerPlaces
    stand_in: StandIn
    left_out: dict[str, int]
    note: str | None = None
    stages: list[dict[str, Any]] | None = None

    def fields(self) -> dict[str, Any]:
        """The fields of a `RecommendationAnswer`, which checking as one would cost as much as the list."""
        return {
            "list_id": self.list_id,
            "shelf": self.shelf,
            "version": self.version,
            "model": self.model,
            "user": self.user,
            "asked": self.asked,
            "list": self.places.fields(),
            "fallback": self.stand_in.fallback,
            "folded_in": self.stand_in.folded_in,
            "left_out": self.left_out,
            "note": self.note,
            "stages": self.stages,
        }


def new_list_id() -> str:
    """Time first, so that ids sort by when they were made, then chance."""
    return f"{time.time_ns() // 1_000_000:012x}{_chance():012x}"


def _chance() -> int:
    """48 bits from the system, fetched for many lists at once: each fetch costs as much as a good part of a list."""
    try:
        return _CHANCES.pop()
    except IndexError:
        fresh = secrets.token_bytes(6 * CHANCES)
        _CHANCES.extend(int.from_bytes(fresh[at : at + 6]) for at in range(0, len(fresh), 6))
        return _CHANCES.pop()


_CHANCES: list[int] = []
