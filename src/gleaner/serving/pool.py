"""Several sources made into one list: what they bring is scored together and put in order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gleaner.core.models.base.capabilities import factors_of
from gleaner.core.ranking import arrange
from gleaner.core.ranking.topn import Lists
from gleaner.serving import lists as recommend
from gleaner.serving.conditions import Eligible
from gleaner.serving.context import RequestContext
from gleaner.serving.sources import CandidateSource
from gleaner.serving.tables import ItemTable
from gleaner.wire.shelves.shelf import RecommendRequest
from gleaner.wire.shelves.sources import OrderSpec

GIVEN = "given"
SPREAD_OUT = 1000
"""Candidates that are weighed against one another, the best by score; the rest follow them."""


@dataclass(eq=False)
class Pooled:
    """Candidates of one request in their order. scores: NaN where nothing scores them. source and propensity by row.
    by: what put them in order instead of the model that scores."""

    rows: np.ndarray
    scores: np.ndarray
    source: dict[int, str]
    propensity: dict[int, float]
    asked: RequestContext
    free: np.ndarray
    by: str | None = None

    def instead(self, asked: RequestContext) -> str | None:
        """What stands in for a trained history, and why; None where there is one."""
        if self.by is not None:
            return f"{self.by}: {asked.why_not()}"
        if asked.person.row is not None or not asked.eligible.fitted.model.personal:
            return None
        return recommend.folded_in(asked.person)

    def best(self, n: int, mask: np.ndarray | None = None) -> Lists:
        """The first n, or with a mask the best of all that may be listed within it: by the model that scores, and where
        that does not know who asks, those of the pool first."""
        if mask is None:
            return Lists(self.rows[:n], self.scores[:n])
        found = self.asked.personal(n, mask)
        if found is not None:
            return found
        rows = np.flatnonzero(mask & self.free).astype(np.int32)
        place = np.full(len(self.free), len(self.rows))
        place[self.rows] = np.arange(len(self.rows))
        order = np.lexsort((self.asked.eligible.fitted.ties[rows], place[rows]))[:n]
        return Lists(rows[order], np.full(len(order), np.nan, dtype=np.float32))


@dataclass(frozen=True, eq=False)
class Scorer:
    """What scores candidates: one model, or several with their weights. Each with where the rows of the main model
    stand in it, -1 for none; None for the main model itself."""

    models: list[tuple[Eligible, float, np.ndarray | None]]

    def scores(self, request: RecommendRequest, rows: np.ndarray) -> np.ndarray | None:
        """Scores of rows of the main model: float32 (m,); None where no model knows who asks."""
        found = []
        for eligible, weight, places in self.models:
            own = rows if places is None else places[rows]
            scored = recommend.scores_at(eligible.fitted, eligible.person(request), own[own >= 0])
            if scored is not None:
                found.append((weight, own >= 0, scored))
        if not found:
            return None
        if len(self.models) == 1:
            return self._whole(*found[0])
        total = np.zeros(len(rows))
        for weight, known, scored in found:
            # an item that one of the models does not know is neither good nor bad by it
            total[known] += weight * arrange.standardised(scored.astype(np.float64))
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

    def made(self, asked: RequestContext) -> Pooled:
        """The candidates of a request in their order; none where no source has any, nor where sources ask who it is for
        and none of these knows: then the fallback serves them."""
        free = asked.free
        lists, source = [], dict[int, str]()
        for name, rows in self._brought(asked, free):
            lists.append(rows)
            for row in rows.tolist():
                source.setdefault(row, name)
        rows = arrange.interleaved(lists)
        made = Pooled(rows, np.full(len(rows), np.nan, dtype=np.float32), source, {}, asked, free)
        if not len(rows):
            return made
        scores = self.scorer.scores(asked.request, rows)
        if scores is None:
            made.by = "in the order of the sources"
            if self.second is not None:
                scores, made.by = self.second.scores(asked.request, rows), self.second.models[0][0].fitted.name
        return made if scores is None else self._ordered(rows, scores, made)

    def _brought(self, asked: RequestContext, free: np.ndarray) -> list[tuple[str, np.ndarray]]:
        if asked.request.candidates:
            rows = asked.eligible.fitted.train.items.rows(asked.request.candidates)
            rows = rows[rows >= 0]
            return [(GIVEN, rows[free[rows]])]
        found = [(source, source.rows(asked, free)) for source in self.sources]
        asking = [len(rows) for source, rows in found if source.asks]
        if asking and not any(asking):
            return []
        return [(source.name, rows) for source, rows in found]

    def _ordered(self, rows: np.ndarray, scores: np.ndarray, made: Pooled) -> Pooled:
        fitted = made.asked.eligible.fitted
        ties, propensity = fitted.ties[rows], dict[int, float]()
        if self.order is not None and self.order.sample is not None:
            order, chances = arrange.sampled(scores, self.order.sample.temperature, np.random.default_rng())
            propensity = dict(zip(rows[order].tolist(), chances.tolist(), strict=True))
        elif self.order is not None and self.order.diversify is not None:
            order = arrange.by_score(scores, ties)
            first = order[:SPREAD_OUT]
            likeness = self._likeness(made, rows[first], self.order.diversify.by)
            order[: len(first)] = first[
                arrange.diversified(scores[first], likeness, ties[first], self.order.diversify.weight)
            ]
        else:
            order = arrange.by_score(scores, ties)
        return Pooled(rows[order], scores[order], made.source, propensity, made.asked, made.free, made.by)

    def _likeness(self, made: Pooled, rows: np.ndarray, by: str | None) -> np.ndarray:
        fitted = made.asked.eligible.fitted
        if by is None:
            factors = factors_of(fitted.model)
            assert factors is not None
            return arrange.cosines_within(factors.item_tastes[rows])
        cells = self.items.of_many(fitted.train.items.take(rows), [by])
        return arrange.shared_groups([_group(each.get(by)) for each in cells])


def _group(cell: object) -> frozenset[str]:
    if cell is None:
        return frozenset()
    return frozenset(map(str, cell)) if isinstance(cell, list) else frozenset([str(cell)])
