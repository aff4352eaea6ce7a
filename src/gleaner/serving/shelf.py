"""One version of a shelf in memory, and the lists it gives: context, candidates, order, slots, answer."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from itertools import count
from time import thread_time

import numpy as np

from gleaner.core.data.tables.context_encoder import TIME_PARTS
from gleaner.core.models.base.context import context_columns
from gleaner.core.ranking.slots import How
from gleaner.core.ranking.topn import Lists
from gleaner.serving.answer import Answer, AnswerPlaces, new_list_id
from gleaner.serving.candidates import Candidates, Pool, RankedCandidates
from gleaner.serving.conditions import Eligible
from gleaner.serving.context import Best, RequestContext, StandIn
from gleaner.serving.lookalikes import Lookalikes
from gleaner.serving.reasons import ReasonFinder
from gleaner.serving.slots import ShelfSlots
from gleaner.serving.sources import CandidateSource
from gleaner.serving.tables import ItemTable
from gleaner.serving.timing import UNTIMED, StageTimes
from gleaner.wire.shelves.shelf import MAX_EXPLAINED, MAX_N, RecommendationAnswer, RecommendRequest, ShelfSpec

QUICK_INDEXED, QUICK_SCANNED = 200_000, 20_000
"""Items up to which a list is made without waking a thread, with bounds to walk by and without."""

OBSERVED_EVERY = 16
"""So many lists to one whose stages are timed into the meters, from the first: each costs a microsecond, and a sample
tells as much."""

EXPLAIN_S = 1.0
"""Time of the processor that reasons of one list may take; positions after it have none."""

NO_PROPENSITY: Mapping[int, float] = {}


@dataclass(frozen=True, eq=False)
class OrderedList:
    """A list before slots. best: more of it, for slots. ranked: the candidates it is of; None where one model ranked
    everything. source: the step of the fallback that it comes from."""

    context: RequestContext
    lists: Lists
    best: Best
    stand_in: StandIn
    ranked: RankedCandidates | None = None
    source: str | None = None

    @property
    def n_there(self) -> int:
        """Items that could have been listed."""
        return int(np.count_nonzero(self.context.free)) if self.ranked is None else len(self.ranked.rows)

    def sources_of(self, lists: Lists, how: list[How] | None) -> list[str]:
        """What brought each item of a list in."""
        sources = self.context.eligible.fitted.sources_of(lists.items)
        rows = lists.items.tolist()
        if self.source is not None:
            sources = [self.source] * len(rows)
        elif self.ranked is not None:
            brought = self.ranked.candidates.source
            sources = [brought.get(row, source) for row, source in zip(rows, sources, strict=True)]
        if how is None:
            return sources
        return ["pinned" if each == "pinned" else source for each, source in zip(how, sources, strict=True)]

    def propensity_of(self, lists: Lists, how: list[How] | None) -> list[float | None]:
        """With what chance each item stands where it does: what was given away stands there by none."""
        by_row = NO_PROPENSITY if self.ranked is None or self.source is not None else self.ranked.propensity
        if not by_row:
            return [None] * len(lists.items)
        chances = [by_row.get(row) for row in lists.items.tolist()]
        if how is None:
            return chances
        return [chance if each == "ranked" else None for each, chance in zip(how, chances, strict=True)]


@dataclass(frozen=True, eq=False)
class LoadedShelf:
    """One version of a shelf, ready to answer. Never changed: a new version is a new object.

    pool: None where one model ranks everything. given: what orders candidates of a request. steps: tried in order for
    someone unknown, before the fallback, which serves everyone. observe: receives the stages of some lists.
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
    observe: Callable[[str, StageTimes], None] | None = None
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

    @cached_property
    def context_columns(self) -> list[str]:
        """Columns of the context that the model looks at and only a request can give."""
        return [name for name in context_columns(self.model.fitted.model) if name not in TIME_PARTS]

    def answer(self, request: RecommendRequest, times: StageTimes | None = None) -> Answer:
        """One list. There is always one: for someone unknown it comes from the fallback, and says so. times: takes
        those of its stages, which otherwise are taken where the request is to be explained, and of some lists."""
        if request.show is not None:
            self.items.require_columns(request.show, "show")
        # which lists are timed is known beforehand: the others take no times
        observed = self.observe is not None and next(self.turns) % OBSERVED_EVERY == 0
        times = times or (StageTimes() if request.explain or observed else UNTIMED)
        # who names the candidates wants them ordered, known ones too
        context = RequestContext.of(self.model, request, () if request.candidates else self.spec.leave_out)
        times.note("history", len(context.person.known) + len(context.person.recent))
        times.note("candidates", context.n_allowed)
        ordered = self._ordered(context, times)
        times.note("ranking", len(ordered.lists.items))
        lists, how = ordered.lists, None
        if self.slots is not None and not request.candidates:
            slotted = self.slots[ordered.context.eligible is self.fallback].fill(request, ordered.best)
            lists, how = slotted.lists, slotted.how
            times.note("slots", sum(each != "ranked" for each in how))
        places = self._places(request, ordered, lists, how, times)
        if observed and self.observe is not None:
            self.observe(self.spec.shelf, times)
        return Answer(
            list_id=new_list_id(),
            shelf=self.spec.shelf,
            version=self.number,
            model=ordered.context.eligible.fitted.name,
            user=request.user,
            asked=request.n,
            places=places,
            stand_in=ordered.stand_in,
            left_out=ordered.context.counts(),
            note=self._note(request, ordered, places),
            stages=times.rows() if request.explain else None,
        )

    def checked(self, request: RecommendRequest) -> RecommendationAnswer:
        """The same as a message."""
        return RecommendationAnswer.model_validate(self.answer(request).fields())

    def _ordered(self, context: RequestContext, times: StageTimes) -> OrderedList:
        """The list before slots: of the candidates named, of the model, of the pool, or else of the fallback."""
        n = context.request.n
        if context.request.candidates:
            return _of_ranked(self.given.ranked(self.given.candidates(context)), n)
        if self.pool is None:
            lists = context.personal(n)
            if lists is not None:
                return OrderedList(context, lists, context.best, context.stand_in)
        else:
            ranked = self.pool.ranked(self.pool.candidates(context))
            times.note("sources", len(ranked.rows))
            if len(ranked.rows):
                return _of_ranked(ranked, n)
        return self._of_step(context) or self._of_fallback(context)

    def _of_step(self, context: RequestContext) -> OrderedList | None:
        for step in self.steps:
            ranked = self._stepped(step, context)
            if ranked is not None and len(ranked.rows):
                stand_in = StandIn(fallback=f"{step.name}: {context.why_not()}")
                lists = ranked.best(context.request.n)
                return OrderedList(context, lists, ranked.best, stand_in, ranked, step.name)
        return None

    def _stepped(self, step: CandidateSource | Lookalikes, context: RequestContext) -> RankedCandidates | None:
        free = context.free
        if isinstance(step, Lookalikes):
            table, most = self.model.people.table, min(MAX_N, len(free))
            lists = step.best(table, context.request.user, most, context.allowed, context.left_out_rows)
            if lists is None:
                return None
            return RankedCandidates(Candidates(context, free, lists[0].items), lists[0].items, lists[0].scores)
        return Candidates(context, free, step.rows(context, free)).unscored()

    def _of_fallback(self, context: RequestContext) -> OrderedList:
        why = context.why_not()
        last = RequestContext.of(self.fallback, context.request, self.spec.leave_out, why)
        stand_in = StandIn(fallback=f"{self.fallback.fitted.name}: {why}")
        return OrderedList(last, last.for_anyone(context.request.n), last.best, stand_in)

    def _places(
        self, request: RecommendRequest, ordered: OrderedList, lists: Lists, how: list[How] | None, times: StageTimes
    ) -> AnswerPlaces:
        """What is answered of each place."""
        items = ordered.context.eligible.fitted.train.items.take(lists.items)
        columns = self.items.of_many(items, self.spec.show if request.show is None else request.show)
        sources = ordered.sources_of(lists, how)
        times.note("columns", len(items))
        reasons: list[str | None] = []
        if request.explain:
            reasons = self._reasons(ordered, lists, how, sources)
            times.note("reasons", sum(reason is not None for reason in reasons))
        return AnswerPlaces(
            items=items,
            scores=lists.scores.tolist(),
            sources=sources,
            promoted=[False] * len(items) if how is None else [each == "promoted" for each in how],
            propensity=ordered.propensity_of(lists, how),
            reasons=reasons + [None] * (len(items) - len(reasons)),
            columns=columns,
            n_explained=len(reasons),
        )

    def _reasons(
        self, ordered: OrderedList, lists: Lists, how: list[How] | None, sources: list[str]
    ) -> list[str | None]:
        """Return why each of the first positions is there: a rule of the shelf, a fallback step, or the user's history.

        At most MAX_EXPLAINED positions, and no more than can be explained within EXPLAIN_S.
        """
        end = thread_time() + EXPLAIN_S
        context = ordered.context
        because = ReasonFinder(context.eligible.fitted, context.person, self.items, context.request.context)
        reasons: list[str | None] = []
        for at, (row, source) in enumerate(zip(lists.items[:MAX_EXPLAINED].tolist(), sources, strict=False)):
            if reasons and thread_time() > end:
                break
            each = "ranked" if how is None else how[at]
            if each == "pinned":
                reasons.append("pinned to this place")
                continue
            reason = (None if ordered.source is not None else because.of(row)) or self._by_source(source)
            reasons.append(f"promoted ({self._promotion}); {reason}" if each == "promoted" else reason)
        return reasons

    def _note(self, request: RecommendRequest, ordered: OrderedList, places: AnswerPlaces) -> str | None:
        """Return why there are fewer items than asked for, and fewer reasons than items; None where neither is so."""
        n = len(places.items)
        notes = [self._shortage(request, ordered, n)] if n < request.n else []
        if request.explain and places.n_explained < n:
            notes.append(f"reasons are given for the first {places.n_explained} positions")
        return "; ".join(notes) or None

    def _shortage(self, request: RecommendRequest, ordered: OrderedList, n: int) -> str:
        """How many there are instead, and what but the exclusions that are counted keeps them from being more."""
        text = f"{request.n} were asked for, {n} are left to recommend"
        limit = self.spec.slots.limit if self.slots is not None and not request.candidates else None
        if limit is not None and n < ordered.n_there:
            return f"{text}, at most {limit.most} of each {limit.column}"
        if ordered.ranked is not None:
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


def _of_ranked(ranked: RankedCandidates, n: int) -> OrderedList:
    stand_in = ranked.stand_in if len(ranked.rows) else StandIn()
    return OrderedList(ranked.candidates.context, ranked.best(n), ranked.best, stand_in, ranked)
