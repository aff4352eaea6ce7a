"""One version of a shelf in memory, and the lists it gives."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from itertools import count
from typing import Any

import numpy as np

from gleaner.core.ranking.slots import Placed
from gleaner.core.ranking.topn import Lists
from gleaner.serving import lists as recommend
from gleaner.serving.conditions import Eligible
from gleaner.serving.context import RequestContext
from gleaner.serving.lists import UNTIMED, Stages
from gleaner.serving.lookalikes import Lookalikes
from gleaner.serving.pool import Pool, Pooled
from gleaner.serving.reasons import Because
from gleaner.serving.slots import ShelfSlots, as_lists
from gleaner.serving.sources import CandidateSource
from gleaner.serving.tables import ItemTable
from gleaner.wire.shelves.shelf import MAX_N, RecommendationAnswer, RecommendRequest, ShelfSpec

QUICK_INDEXED, QUICK_SCANNED = 200_000, 20_000
"""Items up to which a list is made without waking a thread, with bounds to walk by and without."""

OBSERVED_EVERY = 16
"""So many lists to one whose stages are timed into the meters, from the first: each costs a microsecond, and a sample
tells as much."""

Best = Callable[[int, np.ndarray | None], Lists]


@dataclass(eq=False)
class Candidates:
    """What a request comes to before slots: the list, what gives more of it, and how it came about."""

    lists: Lists
    best: Best
    asked: RequestContext
    instead: str | None
    pooled: Pooled | None = None
    source: str | None = None


@dataclass(frozen=True, eq=False)
class LoadedShelf:
    """One version of a shelf, ready to answer. Never changed: a new version is a new object.

    pool: None where one model ranks everything. given: what orders candidates of a request. steps: tried in order for
    someone unknown, before the fallback, which serves everyone. observe: told of the stages of some lists.
    """

    spec: ShelfSpec
    number: int
    model: Eligible
    fallback: Eligible
    items: ItemTable
    dataset_id: int | None
    given: Pool
    pool: Pool | None = None
    steps: tuple[CandidateSource | Lookalikes, ...] = ()
    slots: tuple[ShelfSlots, ShelfSlots] | None = None
    observe: Callable[[str, Stages], None] | None = None
    turns: Iterator[int] = field(default_factory=count)

    @cached_property
    def is_quick(self) -> bool:
        """Whether a list takes well below a millisecond or so: few items, or a model that need not score them all,
        no condition on who asks, one source and no slots."""
        return (
            not self.model.varies
            and self.slots is None
            and self.pool is None
            and not self.steps
            and all(
                len(ranker.fitted.train.items) <= (QUICK_INDEXED if ranker.fitted.index else QUICK_SCANNED)
                for ranker in (self.model, self.fallback)
            )
        )

    def answer(self, request: RecommendRequest) -> dict[str, Any]:
        """One list, as the fields of a `RecommendationAnswer`: `checked` is one, and costs as much as the list.

        There is always one: for someone unknown it comes from the fallback, and says so.
        """
        if request.show is not None:
            self.items.require_columns(request.show, "show")
        # which lists are timed is known beforehand: the others take no times
        observed = self.observe is not None and next(self.turns) % OBSERVED_EVERY == 0
        stages = Stages() if request.explain or observed else UNTIMED
        # who names the candidates wants them ordered, known ones too
        asked = RequestContext(self.model, request, () if request.candidates else self.spec.leave_out)
        stages.note("history", len(asked.person.known) + len(asked.person.recent))
        stages.note("candidates", asked.n_allowed)
        found = self._found(asked, stages)
        stages.note("ranking", len(found.lists.items))
        lists, made = found.lists, list[Placed]()
        if self.slots is not None and not request.candidates:
            made = self.slots[found.asked.eligible is self.fallback].fill(request, found.best)
            lists = as_lists(made)
            stages.note("slots", sum(each.how != "ranked" for each in made))
        show = self.spec.show if request.show is None else request.show
        places = recommend.as_places(found.asked.eligible.fitted, lists, self.items, show)
        if made or found.source is not None or found.pooled is not None:
            _label(places, lists, found, made)
        stages.note("columns", len(places))
        if request.explain:
            self._explain(places, lists, found, made)
            stages.note("reasons", sum(place["reason"] is not None for place in places))
        if observed and self.observe is not None:
            self.observe(self.spec.shelf, stages)
        folded = found.instead is not None and found.instead.startswith(recommend.FOLDED_IN)
        return {
            "list_id": _list_id(),
            "shelf": self.spec.shelf,
            "version": self.number,
            "model": found.asked.eligible.fitted.name,
            "user": request.user,
            "asked": request.n,
            "list": places,
            "fallback": None if folded else found.instead,
            "folded_in": found.instead.removeprefix(recommend.FOLDED_IN) if folded and found.instead else None,
            "left_out": found.asked.counts(),
            "note": self._shortage(request, found, len(places)) if len(places) < request.n else None,
            "stages": stages.rows() if request.explain else None,
        }

    def _explain(self, places: list[dict[str, Any]], lists: Lists, found: Candidates, made: list[Placed]) -> None:
        """Say of each place why: a rule of the shelf, a step of the fallback, or what of the history speaks for it."""
        asked = found.asked
        because = Because(asked.eligible.fitted, asked.person, self.items)
        for at, (place, row) in enumerate(zip(places, lists.items.tolist(), strict=True)):
            how = made[at].how if made else "ranked"
            if how == "pinned":
                place["reason"] = "pinned to this place"
                continue
            reason = None if found.source is not None else because.of(row)
            reason = reason or self._by_source(place["source"])
            place["reason"] = f"promoted ({self._promotion}); {reason}" if how == "promoted" else reason

    def _shortage(self, request: RecommendRequest, found: Candidates, n: int) -> str:
        """How many there are instead, and what but the exclusions that are counted keeps them from being more."""
        text = f"{request.n} were asked for, {n} are left to recommend"
        brought = None if found.pooled is None else len(found.pooled.rows)
        limit = self.spec.slots.limit if self.slots is not None and not request.candidates else None
        there = int(np.count_nonzero(found.asked.free)) if brought is None else brought
        if limit is not None and n < there:
            return f"{text}, at most {limit.most} of each {limit.column}"
        if brought is not None:
            return f"{text}, all that {'was given' if request.candidates else 'the sources bring'}"
        return text

    @property
    def _promotion(self) -> str:
        promoted = self.spec.slots.promoted
        return "" if promoted is None else promoted.where

    def _by_source(self, source: str) -> str:
        """The sentence for what nobody's history speaks for."""
        if source == self.fallback.fitted.name:
            return f"what everyone gets from {source} ({self.fallback.fitted.model.family})"
        return f"from {source}"

    def _found(self, asked: RequestContext, stages: Stages) -> Candidates:
        n = asked.request.n
        if asked.request.candidates:
            return self._of_pool(self.given.made(asked), asked)
        if self.pool is None:
            lists = asked.personal(n)
            if lists is not None:
                return Candidates(lists, asked.best, asked, asked.instead)
        else:
            pooled = self.pool.made(asked)
            stages.note("sources", len(pooled.rows))
            if len(pooled.rows):
                return self._of_pool(pooled, asked)
        return self._of_step(asked) or self._of_fallback(asked)

    def _of_pool(self, pooled: Pooled, asked: RequestContext) -> Candidates:
        instead = pooled.instead(asked) if len(pooled.rows) else None
        return Candidates(pooled.best(asked.request.n), pooled.best, asked, instead, pooled)

    def _of_step(self, asked: RequestContext) -> Candidates | None:
        for step in self.steps:
            pooled = self._stepped(step, asked)
            if pooled is not None and len(pooled.rows):
                instead = f"{step.name}: {asked.why_not()}"
                return Candidates(pooled.best(asked.request.n), pooled.best, asked, instead, pooled, step.name)
        return None

    def _stepped(self, step: CandidateSource | Lookalikes, asked: RequestContext) -> Pooled | None:
        free = asked.free
        if isinstance(step, Lookalikes):
            table, most = self.model.people.table, min(MAX_N, len(free))
            found = step.best(table, asked.request.user, most, asked.allowed, asked.gone)
            return None if found is None else Pooled(found[0].items, found[0].scores, {}, {}, asked, free)
        rows = step.rows(asked, free)
        return Pooled(rows, np.full(len(rows), np.nan, dtype=np.float32), {}, {}, asked, free)

    def _of_fallback(self, asked: RequestContext) -> Candidates:
        last = RequestContext(self.fallback, asked.request, self.spec.leave_out, asked.why_not())
        lists = last.for_anyone(asked.request.n)
        return Candidates(lists, last.best, last, last.instead)

    def checked(self, request: RecommendRequest) -> RecommendationAnswer:
        """The same as a message."""
        return RecommendationAnswer.model_validate(self.answer(request))


def _label(places: list[dict[str, Any]], lists: Lists, found: Candidates, made: list[Placed]) -> None:
    """Say of each place what brought it in, and with what chance it stands there."""
    for place, row in zip(places, lists.items.tolist(), strict=True):
        if found.source is not None:
            place["source"] = found.source
        elif found.pooled is not None:
            place["source"] = found.pooled.source.get(row, place["source"])
            place["propensity"] = found.pooled.propensity.get(row)
    for place, each in zip(places, made, strict=False):
        place["promoted"] = each.how == "promoted"
        if each.how != "ranked":
            place["propensity"] = None
        place["source"] = "pinned" if each.how == "pinned" else place["source"]


def _list_id() -> str:
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


CHANCES = 256
_CHANCES: list[int] = []
