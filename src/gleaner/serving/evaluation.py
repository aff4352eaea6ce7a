"""A shelf before anyone is served by it: its lists for the users of a held-out part, stage by stage.

The models it names are those of the caller, fitted on what is left of the rows. No clock but that of the stages.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from statistics import median
from typing import Any

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.metrics.evaluation import Figures, RankPlan, figures_of
from gleaner.core.metrics.exposure import ContentVectors, ShownLists
from gleaner.core.metrics.statistics import Interval, intervals
from gleaner.core.splits.truth import Truth
from gleaner.serving.candidates import joined
from gleaner.serving.context import RequestContext
from gleaner.serving.shelf import LoadedShelf
from gleaner.serving.timing import StageTimes
from gleaner.wire.shelves.shelf import RecommendRequest

TIMED_LISTS = 100
ALL_SOURCES = "all together"
NOTHING = np.empty(0, dtype=np.int32)

ReportProgress = Callable[[float], None]
"""Hears the share of the users done, 0 to 1. Raises CancelledError to stop."""


@dataclass(frozen=True, eq=False)
class HeldOutUsers:
    """Who is listed for: truth, in rows of `known`; what everybody has already; what models learned from; and the
    context in which each asks, a request's `context`."""

    truth: Truth
    known: InteractionMatrix
    train: InteractionMatrix
    content: ContentVectors = field(default_factory=ContentVectors)
    context: Sequence[dict[str, Any]] = ()

    def requests(self, n: int) -> list[RecommendRequest]:
        """One of each user."""
        users = self.known.users.take(self.truth.user_rows)
        contexts = self.context or [{}] * len(users)
        return [RecommendRequest(user=user, n=n, context=given) for user, given in zip(users, contexts, strict=True)]

    def figures(self, lists: np.ndarray, plan: RankPlan) -> Figures:
        """Of lists: item rows of `train`, int32 (n_users, k), -1 for an empty place."""
        shown = ShownLists(lists, self.truth.user_rows, self.known, self.train, self.content)
        return figures_of(shown, self.truth, plan)

    def among(self, candidates: Sequence[np.ndarray]) -> np.ndarray:
        """Which relevant pairs have their item among the candidates of their user: bool of the shape of
        truth.indices."""
        edges = zip(self.truth.indptr, self.truth.indptr[1:], candidates, strict=False)
        return np.concatenate([np.isin(self.truth.indices[low:high], rows) for low, high, rows in edges])


@dataclass(frozen=True)
class SourceFigure:
    """What one source brings: how many candidates of a user on average, and the share of the relevant items among
    them."""

    name: str
    taken: float
    recall: Interval


@dataclass(frozen=True, eq=False)
class CandidateFigures:
    """What candidates are worth. sources: each, and all together. users: those with a relevant item among their
    candidates, over whom it is asked how well these are put in order: by what scores them, and as the sources bring
    them, taking turns. lists: the latter of all users, int32 (n_users, n)."""

    sources: list[SourceFigure]
    users: int
    scored: Figures
    brought: Figures
    lists: np.ndarray


def drawn_users(truth: Truth, most: int, seed: int) -> Truth:
    """At most so many of the users, each as likely as any other."""
    n = len(truth.user_rows)
    if n <= most:
        return truth
    drawn = np.zeros(n, dtype=bool)
    drawn[np.random.default_rng(seed).choice(n, most, replace=False)] = True
    return truth.only(np.repeat(drawn, np.diff(truth.indptr)))


def lists_of(
    shelf: LoadedShelf, held_out: HeldOutUsers, n: int, report_progress: ReportProgress
) -> tuple[np.ndarray, int]:
    """What each user would be served: item rows of `train`, int32 (n_users, n), -1 for an empty place; and how many
    users would get what is for everyone."""
    requests = held_out.requests(n)
    lists = np.full((len(requests), n), -1, dtype=np.int32)
    stood_in = 0
    for at, request in enumerate(requests):
        answer = shelf.answer(request)
        stood_in += answer.stand_in.fallback is not None
        rows = held_out.train.items.rows(answer.places.items)
        lists[at, : len(rows)] = rows
        report_progress((at + 1) / len(requests))
    return lists, stood_in


def candidates_of(
    shelf: LoadedShelf, held_out: HeldOutUsers, plan: RankPlan, report_progress: ReportProgress
) -> CandidateFigures | None:
    """What the sources of a shelf bring, and how well it is put in order; None where one model ranks everything."""
    if shelf.pool is None:
        return None
    plain, n = replace(shelf.pool, order=None), max(plan.at)
    # the model that scores may list items that training never saw: -1
    into = held_out.train.items.rows(shelf.model.fitted.train.items.ids.to_pylist())
    requests = held_out.requests(n)
    by_source: dict[str, list[np.ndarray]] = {source.name: [] for source in plain.sources}
    everything: list[np.ndarray] = []
    scored, brought = (np.full((len(requests), n), -1, dtype=np.int32) for _ in range(2))
    for at, request in enumerate(requests):
        context = RequestContext.of(shelf.model, request, shelf.spec.leave_out)
        free = context.free
        from_sources = plain.brought(context, free)
        candidates, rows_of = joined(context, free, from_sources), dict(from_sources)
        for name, listed in by_source.items():
            listed.append(into[rows_of.get(name, NOTHING)])
        everything.append(into[candidates.rows])
        first = into[candidates.rows[:n]]
        brought[at, : len(first)] = first
        best = into[plain.ranked(candidates).rows[:n]]
        scored[at, : len(best)] = best
        report_progress((at + 1) / len(requests))
    found = held_out.among(everything)
    there = replace(held_out, truth=held_out.truth.only(found))
    kept = np.isin(held_out.truth.user_rows, there.truth.user_rows)
    return CandidateFigures(
        sources=[
            *(_source_figure(name, rows, held_out, plan.seed) for name, rows in by_source.items()),
            _source_figure(ALL_SOURCES, everything, held_out, plan.seed),
        ],
        users=int(kept.sum()),
        scored=there.figures(scored[kept], plan),
        brought=there.figures(brought[kept], plan),
        lists=brought,
    )


def stage_times(shelf: LoadedShelf, held_out: HeldOutUsers, n: int) -> list[tuple[str, float, float]]:
    """Of the first users' lists the median of each stage: its name, how many items pass it, milliseconds."""
    stages: dict[str, list[tuple[int, float]]] = {}
    for request in held_out.requests(n)[:TIMED_LISTS]:
        times = StageTimes()
        shelf.answer(request, times)
        for row in times.rows():
            stages.setdefault(row["stage"], []).append((row["items"], row["milliseconds"]))
    return [
        (name, float(median(items for items, _ in seen)), float(median(took for _, took in seen)))
        for name, seen in stages.items()
    ]


def _source_figure(name: str, rows: list[np.ndarray], held_out: HeldOutUsers, seed: int) -> SourceFigure:
    found = held_out.among(rows)
    shares = np.add.reduceat(found, held_out.truth.indptr[:-1]) / np.diff(held_out.truth.indptr)
    [recall] = intervals(shares[:, None], seed)
    return SourceFigure(name, float(np.mean([len(each) for each in rows])), recall)
