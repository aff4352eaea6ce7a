"""Score a fitted model against a held-out part."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.truth import Truth
from gleaner.core.errors import DataError, ParameterError
from gleaner.core.metrics.ranking import per_user_figures
from gleaner.core.metrics.statistics import Interval, intervals
from gleaner.core.models.protocol import Model
from gleaner.core.parallel import Progress
from gleaner.core.ranking.topn import top_n, top_n_of_new


@dataclass(frozen=True)
class RankPlan:
    """Which ranking metrics, at which cut-offs, and the seed of ties and resamples."""

    metrics: list[str]
    at: list[int]
    seed: int


@dataclass(frozen=True, eq=False)
class Figures:
    """Results of one model on one part: per user (float64 (n_users,) by metric@k) and with intervals."""

    per_user: dict[str, np.ndarray]
    means: dict[str, Interval]
    n_users: int


def evaluate(
    model: Model,
    train: InteractionMatrix,
    truth: Truth,
    plan: RankPlan,
    tie_order: np.ndarray,
    *,
    shown: InteractionMatrix | None = None,
    progress: Progress | None = None,
) -> Figures:
    """Rank the full catalogue of `train`, less each user's training items, and compare with the truth.

    shown: histories of users whom training never saw, over the items of `train`; the truth then names rows of it, and
    the model folds each history in. Items shown are left out as training items are.

    Raises DataError when no user can be scored, ParameterError when a cut-off exceeds the catalogue.
    """
    n_items = len(train.items)
    if max(plan.at) > n_items:
        raise ParameterError(
            f"k = {max(plan.at)} is more than the catalogue of the training part has ({n_items} items)",
            where="rank.at",
        )
    if not len(truth.user_rows):
        raise DataError("no user has a relevant item in the held-out part that training could recommend", where="split")
    if shown is None:
        lists = top_n(model, truth.user_rows, max(plan.at), tie_order, exclude=train, progress=progress)
    else:
        lists = top_n_of_new(model, shown, truth.user_rows, max(plan.at), tie_order, progress=progress)
    per_user = per_user_figures(lists.items, truth, plan.metrics, plan.at)
    found = intervals(np.column_stack(list(per_user.values())), plan.seed)
    return Figures(per_user, dict(zip(per_user, found, strict=True)), len(truth.user_rows))
