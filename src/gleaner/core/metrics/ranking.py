"""Ranking metrics at k over the full catalogue, per user.

A list is cut at k places; a list shorter than k counts its missing places as misses. Every user counted has at least
one relevant item. Means are over users (each user counts the same).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from gleaner.core.data.truth import Truth
from gleaner.core.errors import ParameterError, require_range
from gleaner.core.kernels.hits import mark_hits


@dataclass(frozen=True)
class Metric:
    """One metric: its name, its formula in words, and the function from hits to a figure per user.

    compute(hits, n_relevant, k): hits bool (n_users, >= k), n_relevant int64 (n_users,) -> float64 (n_users,).
    """

    name: str
    definition: str
    compute: Callable[[np.ndarray, np.ndarray, int], np.ndarray]


def precision(hits: np.ndarray, n_relevant: np.ndarray, k: int) -> np.ndarray:
    """Relevant items among the first k, over k."""
    return np.asarray(hits[:, :k].sum(axis=1) / k)


def recall(hits: np.ndarray, n_relevant: np.ndarray, k: int) -> np.ndarray:
    """Relevant items among the first k, over all relevant items of the user."""
    return hits[:, :k].sum(axis=1) / n_relevant


def hit_rate(hits: np.ndarray, n_relevant: np.ndarray, k: int) -> np.ndarray:
    """1 where any of the first k is relevant, else 0."""
    return np.asarray(hits[:, :k].any(axis=1), dtype=np.float64)


def ndcg(hits: np.ndarray, n_relevant: np.ndarray, k: int) -> np.ndarray:
    """Sum of 1/log2(1 + place) over hits among the first k, over the same sum for min(k, n_relevant) hits at the top.

    Jarvelin, Kekalainen 2002, with binary gains.
    """
    discounts = 1 / np.log2(np.arange(2, k + 2))
    places = hits[:, :k]
    ideal = np.concatenate([[0.0], np.cumsum(discounts)])
    gains = np.asarray(places @ discounts[: places.shape[1]])
    return gains / ideal[np.minimum(n_relevant, k)]


def average_precision(hits: np.ndarray, n_relevant: np.ndarray, k: int) -> np.ndarray:
    """Precision at the place of every hit among the first k, summed, over min(k, n_relevant).

    The mean over users is MAP (Buckley, Voorhees 2000), cut at k so that a perfect list has 1.
    """
    places = hits[:, :k]
    so_far = np.cumsum(places, axis=1) / np.arange(1, places.shape[1] + 1)
    return np.asarray((so_far * places).sum(axis=1) / np.minimum(n_relevant, k))


def reciprocal_rank(hits: np.ndarray, n_relevant: np.ndarray, k: int) -> np.ndarray:
    """One over the place of the first hit among the first k, 0 where there is none (Voorhees 1999)."""
    places = hits[:, :k]
    first = places.argmax(axis=1)
    return np.where(places.any(axis=1), 1 / (first + 1), 0.0)


METRICS: dict[str, Metric] = {
    metric.name: metric
    for metric in (
        Metric("ndcg", "sum of 1/log2(1+place) over hits in the first k, over the best such sum possible", ndcg),
        Metric("recall", "relevant items in the first k, over all relevant items of the user", recall),
        Metric("precision", "relevant items in the first k, over k", precision),
        Metric("map", "precision at every hit in the first k, summed, over the most hits possible", average_precision),
        Metric("mrr", "one over the place of the first hit in the first k, 0 without one", reciprocal_rank),
        Metric("hit", "1 if any of the first k is relevant, else 0", hit_rate),
    )
}


def require_metric(name: str) -> Metric:
    """The metric of this name. Raises ParameterError listing what there is."""
    if name not in METRICS:
        raise ParameterError(f"there is no metric {name!r}; there are: {', '.join(METRICS)}", where="rank.metrics")
    return METRICS[name]


def per_user_figures(lists: np.ndarray, truth: Truth, names: list[str], cutoffs: list[int]) -> dict[str, np.ndarray]:
    """Every metric at every cut-off in one pass: {"ndcg@10": float64 (n_users,), ...}.

    lists: int32 (n_users, n), one row per truth.user_rows, -1 for an empty place.
    """
    for k in cutoffs:
        require_range("rank.at", k, 1, whole=True)
    hits = np.empty(lists.shape, dtype=np.bool_)
    mark_hits(lists, truth.indptr, truth.indices, hits)
    n_relevant = np.diff(truth.indptr)
    return {f"{name}@{k}": require_metric(name).compute(hits, n_relevant, k) for name in names for k in cutoffs}
