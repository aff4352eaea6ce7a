"""Ranking metrics over the full catalogue, per user: by lists at cut-offs, and by the places of all relevant items.

A list is cut at k places; a list shorter than k counts its missing places as misses. Every user counted has at least
one relevant item. Means are over users (each user counts the same).
"""

from __future__ import annotations

import numpy as np

from gleaner.core.errors import ParameterError
from gleaner.core.kernels.cuts import CUT_METRICS, cut_figures
from gleaner.core.parallel import even_ranges, run_ranges
from gleaner.core.splits.truth import Truth

USERS_AT_A_TIME = 4096


def list_figures(
    lists: np.ndarray, truth: Truth, names: list[str], cutoffs: list[int]
) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """Metrics of `RANKING` at every cut-off in one pass: {"ndcg@10": float64 (n_users,), ...}; and the place, from 1,
    of every relevant item in the first max(cutoffs), 0 where it is not there: int32, shape of truth.indices.

    lists: int32 (n_users, n), one row per truth.user_rows, -1 for an empty place. cutoffs: ascending.
    """
    places = np.empty(len(truth.indices), dtype=np.int32)
    out = np.empty((len(lists), len(cutoffs), len(CUT_METRICS)))
    cuts, gains = np.array(cutoffs, dtype=np.int64), truth.worth()

    def work(lo: int, hi: int) -> None:
        cut_figures(lists[lo:hi], truth.indptr[lo : hi + 1], truth.indices, gains, cuts, out[lo:hi], places)

    run_ranges(work, even_ranges(len(lists), USERS_AT_A_TIME))
    by_label = {
        f"{name}@{k}": np.ascontiguousarray(out[:, place, CUT_METRICS.index(name)])
        for name in names
        for place, k in enumerate(cutoffs)
    }
    return by_label, places


def order_figures(ranks: np.ndarray, truth: Truth, n_candidates: np.ndarray, names: list[str]) -> dict[str, np.ndarray]:
    """Metrics of `ORDER` from the place of every relevant item: {"auc": float64 (n_users,), ...}.

    ranks: int32, one per truth.indices, from 1. n_candidates: int64 (n_users,). NaN where a user has no other
    candidate to compare with.
    """
    n_relevant = np.diff(truth.indptr)
    totals = np.add.reduceat(ranks.astype(np.float64), truth.indptr[:-1]) if len(ranks) else np.empty(0)
    by_name = {}
    with np.errstate(invalid="ignore", divide="ignore"):
        if "auc" in names:
            # Wilcoxon: of all relevant items' places, what is beyond the places they take among themselves
            behind = totals - n_relevant * (n_relevant + 1) / 2
            others = n_candidates - n_relevant
            by_name["auc"] = np.where(others > 0, 1 - behind / (n_relevant * others), np.nan)
        if "percentile_rank" in names:
            share = (totals / n_relevant - 1) / (n_candidates - 1)
            by_name["percentile_rank"] = np.where(n_candidates > 1, share, np.nan)
    return by_name


def require_cutoffs(cutoffs: list[int], n_items: int) -> None:
    """Raises ParameterError unless every cut-off is from 1 to the size of the catalogue."""
    for k in cutoffs:
        if not 1 <= k <= n_items:
            text = (
                f"k = {k} is more than the catalogue of the training part has ({n_items} items)"
                if k > 0
                else f"rank.at must be at least 1, not {k}"
            )
            raise ParameterError(text, where="rank.at")
