"""Places of a list that are given away before the order by score fills the rest: pinned, promoted, limited by group."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

How = Literal["ranked", "promoted", "pinned"]
Groups = Callable[[int], Sequence[str]]
"""The groups of an item row: none, one or several."""


@dataclass(frozen=True)
class PlacedItem:
    """An item row in a list, and how it came there."""

    row: int
    score: float
    how: How


@dataclass(frozen=True, eq=False)
class OfferedItems:
    """Rows best first with their scores: what may stand anywhere, and in promoted places."""

    rows: np.ndarray
    scores: np.ndarray

    def pairs(self) -> Iterator[tuple[int, float]]:
        """One after the other."""
        return zip(self.rows.tolist(), self.scores.tolist(), strict=True)


@dataclass(frozen=True, eq=False)
class Slots:
    """What is given away. pinned: (row, score) by place, from 1; promoted: places, from 1; most: items of one group,
    0 for any number."""

    pinned: dict[int, tuple[int, float]] = field(default_factory=dict)
    promoted: frozenset[int] = frozenset()
    most: int = 0


def spread(n: int, share: float, taken: Collection[int] = ()) -> list[int]:
    """The places, from 1, of a share of n places (to the nearest whole number, halves up), each in the middle of its
    stretch: of ten places three tenths are the second, the sixth and the ninth. Places that are taken are passed over,
    and the share is that of all n as far as the others go."""
    free = [place for place in range(1, n + 1) if place not in taken]
    count = min(int(share * n + 0.5), len(free))
    return [free[int((k + 0.5) * len(free) / count)] for k in range(count)]


def fill(n: int, ranked: OfferedItems, promoted: OfferedItems, slots: Slots, groups: Groups) -> list[PlacedItem]:
    """At most n places, in order. Promoted places take the best promoted item that does not stand yet; all others, and
    promoted places for which none is left, go on in the order by score, so that order is kept among them. An item
    whose groups have their `most` is passed over. Where items run out what is pinned further on moves up."""
    counted: Counter[str] = Counter(name for row, _ in slots.pinned.values() for name in groups(row))
    used = {row for row, _ in slots.pinned.values()}
    by_score, by_promotion = ranked.pairs(), promoted.pairs()

    def following(source: Iterator[tuple[int, float]], how: How) -> PlacedItem | None:
        for row, score in source:
            names = groups(row)
            if row in used or (slots.most and any(counted[name] >= slots.most for name in names)):
                continue
            used.add(row)
            counted.update(names)
            return PlacedItem(row, score, how)
        return None

    placed: list[PlacedItem] = []
    for place in range(1, n + 1):
        if place in slots.pinned:
            placed.append(PlacedItem(*slots.pinned[place], "pinned"))
            continue
        taken = following(by_promotion, "promoted") if place in slots.promoted else None
        taken = taken or following(by_score, "ranked")
        if taken is not None:
            placed.append(taken)
    return placed
