"""Figures of parts of the users, or of parts of the relevant items, with their counts."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import polars as pl

from gleaner.core.errors import InputError
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.ranking import list_figures
from gleaner.core.splits.truth import Truth

BY_PLACE = ("ndcg", "recall", "precision", "map", "mrr", "hit")
"""Metrics that the places of relevant items in the list are enough for."""
MOST_GROUPS = 12
OTHERS, MISSING = "others", "(missing)"

Masks = list[tuple[str, np.ndarray]]
"""Segments in order: the name of each and which rows are in it, bool (n_rows,)."""


@dataclass(frozen=True)
class UserSegment:
    """One part: its name, the relevant items of its users in it, and the figure of each user who has one,
    float64 (n_users,)."""

    name: str
    pairs: int
    figures: np.ndarray


def in_bins(counts: pl.Series, n: int) -> Masks:
    """Whole numbers in at most n ranges of about equal size, in order."""
    values = counts.to_numpy()
    if not len(values):
        return []
    edges = np.quantile(values, np.linspace(0, 1, n + 1)[:-1], method="higher")
    edges[0] = values.min()
    starts = np.unique(edges).astype(np.int64)
    ends = [*(starts[1:] - 1).tolist(), int(values.max())]
    names = [f"{lo:,}" if lo == hi else f"{lo:,} to {hi:,}" for lo, hi in zip(starts.tolist(), ends, strict=True)]
    at = np.searchsorted(starts, values, side="right") - 1
    return [(name, at == place) for place, name in enumerate(names)]


def in_quantiles(values: np.ndarray, n: int) -> Masks:
    """Numbers, float64 (n_rows,), in at most n ranges of about equal size, in order."""
    if not len(values):
        return []
    starts = np.unique(np.quantile(values, np.linspace(0, 1, n + 1)[:-1], method="higher"))
    starts[0] = values.min()
    ends = [*starts[1:].tolist(), float(values.max())]
    at = np.searchsorted(starts, values, side="right") - 1
    return [(f"{lo:.3g} to {hi:.3g}", at == place) for place, (lo, hi) in enumerate(zip(starts, ends, strict=True))]


def in_spans(moments: pl.Series, n: int) -> Masks:
    """Moments in n spans of equal length, in order, each named by its first day and the next one's."""
    micros = moments.dt.timestamp("us").to_numpy()
    if not len(micros):
        return []
    starts = np.linspace(micros.min(), micros.max(), n + 1)
    at = np.clip(np.searchsorted(starts, micros, side="right") - 1, 0, n - 1)
    days = starts.astype("datetime64[us]").astype("datetime64[D]").astype(str)
    return [(f"{one} to {two}", at == place) for place, (one, two) in enumerate(pairwise(days))]


def in_groups(cells: pl.Series) -> Masks:
    """Cells by what they say, the most frequent first: all beyond the first twelve together, those missing by name.

    A cell that is a list stands in the segment of each of its entries.
    """
    listed = cells if cells.dtype == pl.List else cells.cast(pl.String).reshape((-1, 1)).arr.to_list()
    frame = pl.DataFrame({"cell": listed.cast(pl.List(pl.String))}).with_row_index("row").explode("cell")
    filled = frame.with_columns(pl.col("cell").fill_null(MISSING)).unique(["row", "cell"])
    counts = filled.group_by("cell").len().sort("len", "cell", descending=[True, False])
    names = counts["cell"].head(MOST_GROUPS).to_list()
    groups = [(name, filled.filter(cell=name)["row"]) for name in names]
    if counts.height > MOST_GROUPS:
        groups.append((OTHERS, filled.filter(~pl.col("cell").is_in(names))["row"]))
    masks = []
    for name, rows in groups:
        mask = np.zeros(len(cells), dtype=bool)
        mask[rows.to_numpy()] = True
        masks.append((name, mask))
    return masks


def of_users(figures: np.ndarray, pairs: np.ndarray, masks: Masks) -> list[UserSegment]:
    """A metric by parts of the users. figures float64 (n_users,), NaN without; pairs: relevant items of each user."""
    segments = []
    for name, mask in masks:
        mine = mask & ~np.isnan(figures)
        if mine.any():
            segments.append(UserSegment(name, int(pairs[mine].sum()), figures[mine]))
    return segments


def of_items(pairs: pl.DataFrame, masks: Masks, metric: str) -> list[UserSegment]:
    """A ranking metric by parts of the relevant items: only those of a part are relevant, all else stays.

    pairs: one row per relevant item, columns `at` (the user's row, ascending) and `place` (in the list, or 0). Users
    count who have a relevant item in the part. Raises InputError for a metric that needs more than places.
    """
    reference = MetricReference.parse(metric)
    name, k = reference.name, reference.k
    if name not in BY_PLACE or k is None:
        text = f"parts of the items can be scored by {', '.join(BY_PLACE)} at k, not by {metric}"
        raise InputError(text, where="metric")
    segments = []
    for part, mask in masks:
        mine = pairs.filter(pl.Series(mask))
        if mine.height:
            segments.append(UserSegment(part, mine.height, _figures(mine, name, k)))
    return segments


def _figures(pairs: pl.DataFrame, name: str, k: int) -> np.ndarray:
    """The metric of each user, from lists that hold the pairs where they stand and nothing elsewhere."""
    users, counts = np.unique(pairs["at"].to_numpy(), return_counts=True)
    indptr = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    places = pairs["place"].to_numpy()
    lists = np.full((len(users), k), -1, dtype=np.int32)
    ordinal = np.arange(len(places), dtype=np.int32)
    row = np.repeat(np.arange(len(users)), counts)
    listed = (places > 0) & (places <= k)
    lists[row[listed], places[listed] - 1] = ordinal[listed]
    truth = Truth(users.astype(np.int32), indptr, ordinal, 0, 0, 0)
    return list_figures(lists, truth, [name], [k])[0][f"{name}@{k}"]
