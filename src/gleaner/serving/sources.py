"""The sources of a shelf's candidates: each brings rows of the model that scores, best first."""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from gleaner.core.data.windows import MappedRows, TimedRows, popular_within, trending_within
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.ranking.directions import most_alike
from gleaner.core.ranking.topn import top_of
from gleaner.serving.conditions import Eligible
from gleaner.serving.context import RequestContext
from gleaner.wire.shelves.shelf import RecommendRequest
from gleaner.wire.shelves.sources import PopularSpec, TrendingSpec

KEPT_ALIKE = 20_000
DEEP = 500
FRESH_S = 60.0
"""Windows are counted again once a minute."""


class CandidateSource(Protocol):
    """Where candidates come from. name: as the answer has it. asks: whether it looks at who asks, or at what they
    touched."""

    @property
    def name(self) -> str: ...

    @property
    def personal(self) -> bool:
        """Whether what it brings depends on the user of the request."""
        ...

    def rows(self, context: RequestContext, free: np.ndarray) -> np.ndarray:
        """Rows for a request, best first: int32. free: which may be listed, bool (n_items,)."""
        ...


def onto(main: Fitted, other: Fitted) -> np.ndarray | None:
    """The row of every item of another model in the main one, -1 where it has none; None where they are the same."""
    return None if other is main else main.train.items.rows(other.train.items.ids.to_pylist())


def mapped(rows: np.ndarray, places: np.ndarray | None, free: np.ndarray) -> np.ndarray:
    """Rows in the main model, without those that may not be listed."""
    mapped_rows = rows if places is None else places[rows]
    mapped_rows = mapped_rows[mapped_rows >= 0]
    return mapped_rows[free[mapped_rows]]


@dataclass(frozen=True, eq=False)
class FromModel:
    """The best of a model for who asks; nothing for whom it does not know."""

    name: str
    eligible: Eligible
    places: np.ndarray | None
    leave_out: list[str]
    take: int

    @property
    def personal(self) -> bool:
        """Not where the model lists the same for everyone."""
        return self.eligible.fitted.model.personal

    def rows(self, context: RequestContext, free: np.ndarray) -> np.ndarray:
        """The best, of what may be listed."""
        same = self.eligible is context.eligible
        own = context if same else RequestContext.of(self.eligible, context.request, self.leave_out)
        personal = self.eligible.fitted.model.personal
        lists = own.personal(self.take) if personal else own.for_anyone(self.take)
        return np.empty(0, np.int32) if lists is None else mapped(lists.items, self.places, free)


@dataclass(eq=False)
class FromWindow:
    """What is popular, or trending, within a window."""

    name: str
    spec: PopularSpec
    eligible: Eligible
    take: int
    personal: bool = False
    _counted: tuple[float, np.ndarray] | None = None

    def rows(self, context: RequestContext, free: np.ndarray) -> np.ndarray:
        """Items with a count above none, or above what was expected."""
        scores = self._scores()
        kept = np.where(free & (scores > 0), scores, -np.inf).astype(np.float32)
        lists = top_of(kept, self.take, self.eligible.fitted.ties)
        return lists.items

    def require_times(self) -> None:
        """Raise InputError where no row of the version has a time."""
        if not len(self.eligible.people.past().in_time.times):
            raise InputError("a window needs times, and no row of the data has one", where=self.name.partition(",")[0])

    def _scores(self) -> np.ndarray:
        now = time.monotonic()
        if self._counted is None or now - self._counted[0] > FRESH_S:
            self._counted = now, self._count()
        return self._counted[1]

    def _count(self) -> np.ndarray:
        past, n_items = self.eligible.people.past(), len(self.eligible.fitted.train.items)
        parts: list[TimedRows | MappedRows] = [
            MappedRows(past.in_time, self.eligible.rows_of_past),
            self._live(past.kind_names),
        ]
        kinds = None
        if self.spec.kinds:
            kinds = np.array([past.kind_names.index(kind) for kind in self.spec.kinds if kind in past.kind_names])
        if isinstance(self.spec, TrendingSpec):
            return trending_within(parts, n_items, kinds, self.spec.days, self.spec.usual_days)
        return popular_within(parts, n_items, kinds, self.spec.days)

    def _live(self, kind_names: list[str]) -> TimedRows:
        people = self.eligible.people
        rows = [row for row in people.live.everything() if row.seq > people.events_upto]
        items = self.eligible.fitted.train.items.rows([row.item for row in rows])
        kinds = [kind_names.index(row.kind) if row.kind in kind_names else -1 for row in rows]
        times = np.array([row.at for row in rows], dtype=np.int64)
        return TimedRows.of(items, np.array(kinds, dtype=np.int16), times)


@dataclass(eq=False)
class FromLike:
    """Items most like each of those touched last; likeness is added up."""

    name: str
    other: Fitted
    places: np.ndarray | None
    last: int
    take: int
    personal: bool = True
    _alike: OrderedDict[int, tuple[np.ndarray, np.ndarray]] = field(default_factory=OrderedDict)

    def rows(self, context: RequestContext, free: np.ndarray) -> np.ndarray:
        """Neighbours of the seeds, the seeds themselves left out."""
        seeds = self.other.train.items.rows(context.eligible.people.touched(context.request, self.last))
        seeds = np.unique(seeds[seeds >= 0])
        sums: dict[int, float] = {}
        for seed in seeds.tolist():
            for row, likeness in zip(*self._like(seed), strict=True):
                sums[row] = sums.get(row, 0.0) + likeness
        rows = np.array([row for row in sums if row not in set(seeds.tolist())], dtype=np.int32)
        order = np.lexsort((self.other.ties[rows], np.array([-sums[row] for row in rows.tolist()])))
        return mapped(rows[order], self.places, free)[: self.take]

    def _like(self, seed: int) -> tuple[list[int], list[float]]:
        alike = self._alike.get(seed)
        if alike is None:
            lists, _ = most_alike(self.other.model, self.other.train, "item", seed, DEEP, self.other.ties)
            alike = self._alike[seed] = lists.items, lists.scores
            while len(self._alike) > KEPT_ALIKE:
                self._alike.popitem(last=False)
        return alike[0].tolist(), alike[1].tolist()


@dataclass(frozen=True, eq=False)
class FromBasket:
    """What goes with all of the items touched last together."""

    name: str
    other: Fitted
    places: np.ndarray | None
    last: int
    take: int
    personal: bool = True

    def rows(self, context: RequestContext, free: np.ndarray) -> np.ndarray:
        """The best for the basket as a history of its own."""
        basket = self.other.train.items.rows(context.eligible.people.touched(context.request, self.last))
        basket = np.unique(basket[basket >= 0])
        if not len(basket):
            return np.empty(0, np.int32)
        scores = self.other.scores_from(basket, np.full(len(basket), self.other.typical_value, dtype=np.float32))
        kept = np.where(scores > 0, scores, np.float32(-np.inf))
        lists = top_of(kept, min(len(kept), self.take + DEEP), self.other.ties, basket)
        return mapped(lists.items, self.places, free)[: self.take]


@dataclass(frozen=True, eq=False)
class FromItems:
    """A fixed list."""

    name: str
    fixed: np.ndarray
    take: int
    personal: bool = False

    def rows(self, context: RequestContext, free: np.ndarray) -> np.ndarray:
        """Those that may be listed, in their order."""
        return mapped(self.fixed, None, free)[: self.take]


@dataclass(frozen=True, eq=False)
class FromShelf:
    """The list of another shelf."""

    name: str
    listed: Callable[[RecommendRequest], list[str]]
    take: int
    personal: bool = False

    def rows(self, context: RequestContext, free: np.ndarray) -> np.ndarray:
        """Its items, in its order."""
        request = context.request.model_copy(update={"n": self.take, "where": None, "candidates": [], "explain": False})
        rows = context.eligible.fitted.train.items.rows(self.listed(request))
        return mapped(rows, None, free)
