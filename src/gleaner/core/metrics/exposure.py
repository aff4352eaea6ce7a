"""What lists show, apart from whether it is relevant: how known, how varied, how like the history, how shared out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.profile import gini
from gleaner.core.errors import ParameterError
from gleaner.core.kernels.cuts import list_divergence, list_means, list_spread
from gleaner.core.parallel import even_ranges, run_ranges

USERS_AT_A_TIME = 4096
BLEND = 0.01
"""Share of the history mixed into the list's categories, so that one the list lacks costs much and not infinitely."""


@dataclass(frozen=True, eq=False)
class ContentVectors:
    """What items are, row by row of the training matrix. vectors: (n_items, n_features); groups: (n_items, n_groups),
    0 or more where the item is in the group; either may be None where nothing asks for it."""

    vectors: sparse.csr_array | None = None
    groups: sparse.csr_array | None = None


@dataclass(frozen=True, eq=False)
class ShownLists:
    """Lists, int32 (n_users, n) with -1 for empty places, and what is known of their users and items.

    known: rows user_rows of it hold the items of each user that were left out. train: where popularity is counted.
    candidates: bool (n_items,), what might have been listed; None: everything.
    """

    lists: np.ndarray
    user_rows: np.ndarray
    known: InteractionMatrix
    train: InteractionMatrix
    content: ContentVectors = ContentVectors()
    candidates: np.ndarray | None = None

    @property
    def n_items(self) -> int:
        """Size of the catalogue."""
        return len(self.train.items)


def exposure_figures(shown: ShownLists, names: list[str], cutoffs: list[int]) -> dict[str, np.ndarray]:
    """Metrics of `LISTS` that every user has: {"novelty@10": float64 (n_users,), ...}, NaN where there is none."""
    by_label: dict[str, np.ndarray] = {}
    cuts = np.array(cutoffs, dtype=np.int64)
    for name in names:
        if name in _PER_USER:
            out = np.empty((len(shown.lists), len(cutoffs)))
            _PER_USER[name](shown, cuts, out)
            by_label |= {f"{name}@{k}": np.ascontiguousarray(out[:, place]) for place, k in enumerate(cutoffs)}
    return by_label


def whole_figures(shown: ShownLists, names: list[str], cutoffs: list[int]) -> dict[str, float]:
    """Metrics of `LISTS` that all lists have together: {"coverage@10": 0.4, ...}."""
    by_label = {}
    for k in cutoffs:
        listed = shown.lists[:, :k]
        times = np.bincount(listed[listed >= 0], minlength=shown.n_items)
        times = times if shown.candidates is None else times[shown.candidates]
        for name in names:
            if name in _WHOLE:
                by_label[f"{name}@{k}"] = _WHOLE[name](times, len(listed), k)
    return by_label


def _popularity(shown: ShownLists) -> np.ndarray:
    return np.bincount(shown.train.indices, minlength=shown.n_items).astype(np.float64)


def _means_of(worth: Callable[[ShownLists], np.ndarray]) -> Callable[[ShownLists, np.ndarray, np.ndarray], None]:
    def fill(shown: ShownLists, cuts: np.ndarray, out: np.ndarray) -> None:
        figures = worth(shown)
        _spread(lambda lo, hi: list_means(shown.lists[lo:hi], figures, cuts, out[lo:hi]), len(out))

    return fill


def _novelty(shown: ShownLists) -> np.ndarray:
    return -np.log2(np.maximum(_popularity(shown), 1) / len(shown.train.users))


def _diversity(shown: ShownLists, cuts: np.ndarray, out: np.ndarray) -> None:
    vectors = _require(shown.content.vectors, "diversity", "content")
    _distances(shown, vectors, cuts, out)


def _diversity_seen(shown: ShownLists, cuts: np.ndarray, out: np.ndarray) -> None:
    indptr, users, _ = shown.train.by_item
    shape = (shown.n_items, len(shown.train.users))
    _distances(shown, sparse.csr_array((np.ones(len(users)), users, indptr), shape=shape), cuts, out)


def _distances(shown: ShownLists, vectors: sparse.csr_array, cuts: np.ndarray, out: np.ndarray) -> None:
    lengths = np.sqrt(np.asarray(vectors.multiply(vectors).sum(axis=1)).ravel())
    values = vectors.data / np.repeat(np.maximum(lengths, 1e-300), np.diff(vectors.indptr))
    parts = vectors.indptr.astype(np.int64), vectors.indices.astype(np.int32), values.astype(np.float64)
    _spread(lambda lo, hi: list_spread(shown.lists[lo:hi], *parts, vectors.shape[1], cuts, out[lo:hi]), len(out))


def _calibration(shown: ShownLists, cuts: np.ndarray, out: np.ndarray) -> None:
    groups = _require(shown.content.groups, "calibration", "categories")
    totals = np.asarray(groups.sum(axis=1)).ravel()
    shares = groups.data / np.repeat(np.maximum(totals, 1e-300), np.diff(groups.indptr))
    parts = groups.indptr.astype(np.int64), groups.indices.astype(np.int32), shares.astype(np.float64)
    rows = np.ascontiguousarray(shown.user_rows, dtype=np.int32)
    known = shown.known.indptr, shown.known.indices

    def work(lo: int, hi: int) -> None:
        list_divergence(shown.lists[lo:hi], rows[lo:hi], *known, *parts, groups.shape[1], BLEND, cuts, out[lo:hi])

    _spread(work, len(out))


def _user_coverage(shown: ShownLists, cuts: np.ndarray, out: np.ndarray) -> None:
    out[:] = (shown.lists >= 0).sum(axis=1)[:, None] >= cuts


def _require(part: sparse.csr_array | None, metric: str, field: str) -> sparse.csr_array:
    if part is None:
        raise ParameterError(f"{metric} needs item columns: name them in rank.{field}", where=f"rank.{field}")
    return part


def _spread(work: Callable[[int, int], None], n_rows: int) -> None:
    run_ranges(work, even_ranges(n_rows, USERS_AT_A_TIME))


def coverage(times: np.ndarray, n_lists: int, k: int) -> float:
    """Share of items listed at all. times: int64 (n_items,), how often each item is listed."""
    return float((times > 0).mean())


def _gini_of_lists(times: np.ndarray, n_lists: int, k: int) -> float:
    return gini(times) if times.any() else 0.0


def personalisation(times: np.ndarray, n_lists: int, k: int) -> float:
    """1 less the mean over pairs of lists of shared items / k. An item listed t times is shared by t(t-1)/2 pairs."""
    if n_lists < 2:
        return 0.0
    shared = (times.astype(np.float64) * (times - 1)).sum()
    return float(1 - shared / (n_lists * (n_lists - 1) * k))


_PER_USER: dict[str, Callable[[ShownLists, np.ndarray, np.ndarray], None]] = {
    "popularity": _means_of(_popularity),
    "novelty": _means_of(_novelty),
    "diversity": _diversity,
    "diversity_seen": _diversity_seen,
    "calibration": _calibration,
    "user_coverage": _user_coverage,
}
_WHOLE = {"coverage": coverage, "gini": _gini_of_lists, "personalisation": personalisation}
