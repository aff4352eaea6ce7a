"""Score a fitted model, or lists made elsewhere, against a held-out part."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import DataError
from gleaner.core.metrics.catalogue import ORDER, RANKING, labels, require_metric
from gleaner.core.metrics.exposure import ContentVectors, ShownLists, exposure_figures, whole_figures
from gleaner.core.metrics.ranking import list_figures, order_figures, require_cutoffs
from gleaner.core.metrics.statistics import Interval, intervals
from gleaner.core.models.base.protocol import Model
from gleaner.core.parallel import Progress
from gleaner.core.ranking.topn import Pairs, top_n, top_n_of_new
from gleaner.core.splits.truth import Truth


@dataclass(frozen=True)
class RankPlan:
    """Which metrics, at which cut-offs, and the seed of ties and resamples."""

    metrics: list[str]
    at: list[int]
    seed: int

    @property
    def needs_order(self) -> bool:
        """Whether a metric looks at the whole catalogue in order, and not at the first k only."""
        return any(name in ORDER for name in self.metrics)


@dataclass(frozen=True, eq=False)
class Figures:
    """Results of one model on one part.

    per_user: float64 (n_users,) by label such as ndcg@10, NaN where a user has no figure. means: every label with its
    interval; figures that all lists have together have no interval. places: int32, the place of every relevant item of
    the truth in the longest list, from 1, or 0.
    """

    per_user: dict[str, np.ndarray]
    means: dict[str, Interval]
    n_users: int
    places: np.ndarray

    def joined(self, by_user: dict[str, np.ndarray], plan: RankPlan, *, sure: bool = True) -> Figures:
        """With further figures by user, float64 (n_users,), those that the plan asks for, in its order."""
        asked = {label: figures for label, figures in by_user.items() if label in plan.metrics}
        means = self.means | _means(asked, plan.seed, sure=sure)
        per_user = self.per_user | asked
        order = [label for label in labels(plan.metrics, plan.at) if label in means]
        kept = {label: per_user[label] for label in order if label in per_user}
        return replace(self, per_user=kept, means={label: means[label] for label in order})

    @property
    def whole(self) -> dict[str, float]:
        """Figures that all lists have together."""
        return {name: figure.mean for name, figure in self.means.items() if name not in self.per_user}


def evaluate(
    model: Model,
    train: InteractionMatrix,
    truth: Truth,
    plan: RankPlan,
    tie_order: np.ndarray,
    *,
    shown: InteractionMatrix | None = None,
    folded: InteractionMatrix | None = None,
    content: ContentVectors = ContentVectors(),
    progress: Progress | None = None,
    sure: bool = True,
) -> Figures:
    """Rank the full catalogue of `train`, or the candidates of the truth, less each user's training items, and compare
    with the truth. A model that
    looks at the context is asked for the list of each user in the context of their first relevant interaction.

    shown: histories of users whom training never saw, over the items of `train`; the truth then names rows of it, and
    the model folds each history in (`folded`, where what is folded in differs from what is left out). Items shown are
    left out as training items are. content: what diversity and calibration look at. sure: with intervals; a judge of
    iterations does without.

    Raises DataError when no user can be scored, ParameterError when a cut-off exceeds the catalogue.
    """
    require_cutoffs(plan.at, len(train.items))
    if not len(truth.user_rows):
        raise DataError("no user has a relevant item in the held-out part that training could recommend", where="split")
    pairs = Pairs(truth.indptr, truth.indices) if plan.needs_order else None
    rows, n = truth.user_rows, max(plan.at)
    if shown is None:
        listed = top_n(
            model,
            rows,
            n,
            tie_order,
            exclude=train,
            allowed=truth.candidates,
            places_of=pairs,
            context=truth.context,
            progress=progress,
        )
    else:
        history = shown if folded is None else folded
        listed = top_n_of_new(
            model,
            history,
            rows,
            n,
            tie_order,
            exclude=shown,
            allowed=truth.candidates,
            places_of=pairs,
            context=truth.context,
            progress=progress,
        )
    known = train if shown is None else shown
    lists = ShownLists(listed.items, rows, known, train, content, truth.candidates)
    return figures_of(lists, truth, plan, listed.ranks, sure=sure)


def figures_of(
    shown: ShownLists, truth: Truth, plan: RankPlan, ranks: np.ndarray | None = None, *, sure: bool = True
) -> Figures:
    """Every figure of the plan over lists, row by row those of truth.user_rows. ranks: the place of every relevant
    item, without which metrics of the whole order are left out. sure: with intervals, which cost more than means."""
    for name in plan.metrics:
        require_metric(name)
    by_label, places = list_figures(shown.lists, truth, [name for name in plan.metrics if name in RANKING], plan.at)
    by_label |= exposure_figures(shown, plan.metrics, plan.at)
    if ranks is not None:
        by_label |= order_figures(ranks, truth, truth.n_candidates(shown.known), plan.metrics)
    whole = whole_figures(shown, plan.metrics, plan.at)
    means = _means(by_label, plan.seed, sure=sure)
    means |= {label: Interval(figure, None, None) for label, figure in whole.items()}
    wanted = [label for label in labels(plan.metrics, plan.at) if label in means]
    per_user = {label: by_label[label] for label in wanted if label in by_label}
    return Figures(per_user, {label: means[label] for label in wanted}, len(truth.user_rows), places)


def _means(by_label: dict[str, np.ndarray], seed: int, *, sure: bool) -> dict[str, Interval]:
    if not by_label:
        return {}
    table = np.column_stack(list(by_label.values()))
    if sure:
        return dict(zip(by_label, intervals(table, seed), strict=True))
    return {
        label: Interval(float(mean), None, None)
        for label, mean in zip(by_label, np.nanmean(table, axis=0), strict=True)
    }
