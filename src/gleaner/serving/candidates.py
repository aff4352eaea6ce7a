"""The second and the third stage of a list: what several sources bring, and the order it is put in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from gleaner.core.models.base.capabilities import factors_of
from gleaner.core.ranking import reranking
from gleaner.core.ranking.topn import Lists
from gleaner.serving.conditions import Eligible
from gleaner.serving.context import RequestContext, StandIn
from gleaner.serving.person import scores_at
from gleaner.serving.sources import CandidateSource
from gleaner.serving.tables import ItemTable
from gleaner.wire.shelves.shelf import RecommendRequest
from gleaner.wire.shelves.sources import OrderSpec

GIVEN = "given"
SPREAD_OUT = 1000
"""Candidates that are weighed against one another, the best by score; the rest follow them."""


@dataclass(frozen=True, eq=False)
class Candidates:
    """What sources brought for a request: rows, the sources taking turns, and which source was the first with each.

    free: which items may be listed, bool (n_items,)."""

    context: RequestContext
    free: np.ndarray
    rows: np.ndarray
    source: Mapping[int, str] = field(default_factory=dict)

    def unscored(self) -> RankedCandidates:
        """The same in the order in which they came."""
        return RankedCandidates(self, self.rows, np.full(len(self.rows), np.nan, dtype=np.float32))


@dataclass(frozen=True, eq=False)
class RankedCandidates:
    """Candidates in their order. scores: NaN where nothing scores them. propensity: the chance of each to stand where
    it does, by row, where the order was drawn. by: what put them in order instead of the model that scores."""

    candidates: Candidates
    rows: np.ndarray
    scores: np.ndarray
    propensity: Mapping[int, float] = field(default_factory=dict)
    by: str | None = None

    @property
    def stand_in(self) -> StandIn:
        """What stands in for a trained history."""
        context = self.candidates.context
        return context.stand_in if self.by is None else StandIn(fallback=f"{self.by}: {context.why_not()}")

    def best(self, n: int, mask: np.ndarray | None = None) -> Lists:
        """The first n, or with a mask the best of all that may be listed within it: by the model that scores, and where
        that does not know who asks, those of the candidates first."""
        if mask is None:
            return Lists(self.rows[:n], self.scores[:n])
        context, free = self.candidates.context, self.candidates.free
        lists = context.personal(n, mask)
        if lists is not None:
            return lists
        rows = np.flatnonzero(mask & free).astype(np.int32)
        place = np.full(len(free), len(self.rows))
        place[self.rows] = np.arange(len(self.rows))
        order = np.lexsort((context.eligible.fitted.ties[rows], place[rows]))[:n]
        return Lists(rows[order], np.full(len(order), np.nan, dtype=np.float32))


@dataclass(frozen=True, eq=False)
class Scorer:
    """What scores candidates: one model, or several with their weights. Each with where the rows of the main model
    stand in it, -1 for none; None for the main model itself."""

    models: list[tuple[Eligible, float, np.ndarray | None]]

    def scores(self, request: RecommendRequest, rows: np.ndarray) -> np.ndarray | None:
        """Scores of rows of the main model: float32 (m,); None where no model knows who asks."""
        parts = []
        for eligible, weight, places in self.models:
            own = rows if places is None else places[rows]
            scored = scores_at(eligible.fitted, eligible.person(request), own[own >= 0], request.context)
            if scored is not None:
                parts.append((weight, own >= 0, scored))
        if not parts:
            return None
        if len(self.models) == 1:
            return self._whole(*parts[0])
        total = np.zeros(len(rows))
        for weight, known, scored in parts:
            # an item that one of the models does not know is neither good nor bad by it
            total[known] += weight * reranking.standardised(scored.astype(np.float64))
        return total.astype(np.float32)

    @staticmethod
    def _whole(weight: float, known: np.ndarray, scored: np.ndarray) -> np.ndarray:
        whole = np.full(len(known), scored.min(initial=0), dtype=np.float32)
        whole[known] = scored
        return whole


@dataclass(frozen=True, eq=False)
class Pool:
    """The sources of a shelf, what scores them, and how they are ordered. second: scores for whom the first does not
    know; without it they stay in the order of the sources."""

    sources: list[CandidateSource]
    scorer: Scorer
    order: OrderSpec | None
    items: ItemTable
    second: Scorer | None = None

    def candidates(self, context: RequestContext) -> Candidates:
        """The candidates of a request; none where no source has any, nor where sources ask who it is for and none of
        these knows: then the fallback serves them."""
        free = context.free
        return joined(context, free, self.brought(context, free))

    def ranked(self, candidates: Candidates) -> RankedCandidates:
        """The candidates in their order."""
        rows, request = candidates.rows, candidates.context.request
        if not len(rows):
            return candidates.unscored()
        scores, by = self.scorer.scores(request, rows), None
        if scores is None:
            by = "in the order of the sources"
            if self.second is not None:
                scores, by = self.second.scores(request, rows), self.second.models[0][0].fitted.name
        if scores is None:
            return replace(candidates.unscored(), by=by)
        return self._ordered(candidates, scores, by)

    def brought(self, context: RequestContext, free: np.ndarray) -> list[tuple[str, np.ndarray]]:
        """Rows from each source by its name; nothing where the fallback serves them."""
        if context.request.candidates:
            rows = context.eligible.fitted.train.items.rows(context.request.candidates)
            rows = rows[rows >= 0]
            return [(GIVEN, rows[free[rows]])]
        brought = [(source, source.rows(context, free)) for source in self.sources]
        personal = [len(rows) for source, rows in brought if source.personal]
        if personal and not any(personal):
            return []
        return [(source.name, rows) for source, rows in brought]

    def _ordered(self, candidates: Candidates, scores: np.ndarray, by: str | None) -> RankedCandidates:
        rows, ties = candidates.rows, candidates.context.eligible.fitted.ties[candidates.rows]
        propensity = dict[int, float]()
        if self.order is not None and self.order.sample is not None:
            order, chances = reranking.sampled(scores, self.order.sample.temperature, np.random.default_rng())
            propensity = dict(zip(rows[order].tolist(), chances.tolist(), strict=True))
        elif self.order is not None and self.order.diversify is not None:
            order = reranking.by_score(scores, ties)
            first = order[:SPREAD_OUT]
            likeness = self._likeness(candidates, rows[first], self.order.diversify.by)
            order[: len(first)] = first[
                reranking.diversified(scores[first], likeness, ties[first], self.order.diversify.weight)
            ]
        else:
            order = reranking.by_score(scores, ties)
        return RankedCandidates(candidates, rows[order], scores[order], propensity, by)

    def _likeness(self, candidates: Candidates, rows: np.ndarray, by: str | None) -> np.ndarray:
        fitted = candidates.context.eligible.fitted
        if by is None:
            factors = factors_of(fitted.model)
            assert factors is not None
            return reranking.cosines_within(factors.item_tastes[rows])
        cells = self.items.of_many(fitted.train.items.take(rows), [by])
        return reranking.shared_groups([_group(each.get(by)) for each in cells])


def joined(context: RequestContext, free: np.ndarray, brought: list[tuple[str, np.ndarray]]) -> Candidates:
    """What sources brought, taking turns."""
    source = dict[int, str]()
    # the first that brought it stays
    for name, rows in reversed(brought):
        source.update(dict.fromkeys(rows.tolist(), name))
    return Candidates(context, free, reranking.interleaved([rows for _, rows in brought]), source)


def _group(cell: object) -> frozenset[str]:
    if cell is None:
        return frozenset()
    return frozenset(map(str, cell)) if isinstance(cell, list) else frozenset([str(cell)])
