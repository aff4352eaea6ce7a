"""The fourth stage of a list: places that are given away, filled for one request."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from gleaner.core.errors import InputError, near
from gleaner.core.ranking.slots import How, OfferedItems, PlacedItem, Slots, fill, spread
from gleaner.core.ranking.topn import Lists
from gleaner.serving.conditions import Eligible, condition_of
from gleaner.serving.context import Best
from gleaner.serving.tables import ItemTable
from gleaner.wire.shelves.shelf import RecommendRequest, SlotsSpec

DEEPER = 4
NOTHING = OfferedItems(np.empty(0, np.int32), np.empty(0, np.float32))


@dataclass(frozen=True, eq=False)
class SlottedList:
    """A list whose places say how they were filled."""

    lists: Lists
    how: list[How]

    @classmethod
    def of(cls, placed: list[PlacedItem]) -> SlottedList:
        """Rows, scores and how, place by place."""
        rows, scores = [each.row for each in placed], [each.score for each in placed]
        lists = Lists(np.array(rows, dtype=np.int32), np.array(scores, dtype=np.float32))
        return cls(lists, [each.how for each in placed])


@dataclass(frozen=True, eq=False)
class ShelfSlots:
    """What a file says of slots, over the items of one model. promoted: the items of its condition."""

    spec: SlotsSpec
    eligible: Eligible
    promoted: Eligible | None
    items: ItemTable

    def fill(self, request: RecommendRequest, best: Best) -> SlottedList:
        """The list for a request. It looks as deep as the limits ask it to."""
        n, n_items = request.n, len(self.eligible.fitted.train.items)
        pinned = self._pinned(best)
        places = self._promoted_places(n, pinned)
        offered = NOTHING
        if self.promoted is not None and places:
            mask = self.promoted.allowed(request.model_copy(update={"where": None}))
            offered = _offered(best(min(n_items, self._depth(n + len(places))), mask))
        slots = Slots(pinned, frozenset(places), self.spec.limit.most if self.spec.limit else 0)
        depth = min(n_items, self._depth(n + len(pinned) + len(places)))
        while True:
            ranked = _offered(best(depth, None))
            self._look_up(ranked.rows, offered.rows)
            placed = fill(n, ranked, offered, slots, self._groups)
            if len(placed) >= n or len(ranked.rows) < depth or depth == n_items:
                return SlottedList.of(placed)
            depth = min(n_items, depth * DEEPER)

    def _depth(self, n: int) -> int:
        return n * DEEPER if self.spec.limit else n

    def _pinned(self, best: Best) -> dict[int, tuple[int, float]]:
        """Pinned items that may be listed, by place."""
        if not self.spec.pinned:
            return {}
        items = self.eligible.fitted.train.items
        rows = items.rows([pin.item for pin in self.spec.pinned])
        mask = np.zeros(len(items), dtype=bool)
        mask[rows[rows >= 0]] = True
        lists = best(len(rows), mask)
        scores = dict(zip(lists.items.tolist(), lists.scores.tolist(), strict=True))
        pairs = zip(self.spec.pinned, rows.tolist(), strict=True)
        return {pin.place: (row, scores[row]) for pin, row in pairs if row in scores}

    def _promoted_places(self, n: int, pinned: Collection[int]) -> list[int]:
        promoted = self.spec.promoted
        if promoted is None:
            return []
        if promoted.share is not None:
            return spread(n, promoted.share, pinned)
        return [place for place in promoted.places if place <= n]

    def _look_up(self, *rows: np.ndarray) -> None:
        """The limiting column of many items at once: one by one each would be looked for in the table."""
        if self.spec.limit is not None:
            self.items.of_many(self.eligible.fitted.train.items.take(np.concatenate(rows)), [self.spec.limit.column])

    def _groups(self, row: int) -> list[str]:
        if self.spec.limit is None:
            return []
        item = self.eligible.fitted.train.items.id(row)
        cell = self.items.of(item, [self.spec.limit.column]).get(self.spec.limit.column)
        if cell is None:
            return []
        return [str(each) for each in cell] if isinstance(cell, list) else [str(cell)]


def slots_of(eligible: Eligible, spec: SlotsSpec, *, pins: bool = False) -> ShelfSlots:
    """The slots of a file over one model. pins: whether it must know what is pinned, as the one that ranks must.

    Raises InputError naming a column or an item that is not there, or a condition that does not fit.
    """
    fitted, items, people = eligible.fitted, eligible.items, eligible.people
    if spec.limit is not None and spec.limit.column not in items.columns:
        text = f"there is no item column {spec.limit.column!r} to limit by{near(spec.limit.column, items.columns)}"
        raise InputError(text, where="slots.limit.column")
    unknown = [pin.item for pin in spec.pinned if fitted.train.items.row(pin.item) is None]
    if pins and unknown:
        raise InputError(f"{fitted.name} does not know item {unknown[0]!r}, which is pinned", where="slots.pinned")
    promoted = None
    if spec.promoted is not None:
        try:
            promoted = Eligible(fitted, items, people, condition_of(spec.promoted.where, items, people))
        except InputError as error:
            raise InputError(error.message, where="slots.promoted.where") from None
    return ShelfSlots(spec, eligible, promoted, items)


def _offered(lists: Lists) -> OfferedItems:
    return OfferedItems(lists.items, lists.scores)
