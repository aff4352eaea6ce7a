"""Unexpectedness and serendipity of lists, by seven published definitions.

Each gives one figure to every listed item of every user, raw and normalised; a user's figure is the mean over the list.
What is normalised lies between 0 and 1 over all listed items, 1 the most unexpected.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import DataError
from gleaner.core.kernels.surprise import FACES, list_distances
from gleaner.core.parallel import Progress, even_ranges, run_ranges

USERS_AT_A_TIME = 512
MOST_CELLS = 400_000_000
"""Of a table of listed items against all items, in float32: 1.6 GB."""


@dataclass(frozen=True)
class Definition:
    """One definition: its formula in words, where it comes from, and what it cannot do without."""

    formula: str
    source: str
    needs: str = ""


DEFINITIONS = {
    "murakami": Definition(
        "how much higher the list has an item than the primitive list has, times the share of relevant items so far",
        "Murakami, Mori, Orihara 2008",
    ),
    "ge": Definition(
        "1 for an item that is not among those expected, and relevant where that is known; else 0",
        "Ge, Delgado-Battenfeld, Jannach 2010",
    ),
    "adamopoulos": Definition(
        "distance in content to the nearest item that is expected of the user: history and primitive list together",
        "Adamopoulos, Tuzhilin 2014",
        "content",
    ),
    "kaminskas_company": Definition(
        "1 less the highest association (normalised pointwise mutual information) with an item of the history",
        "Kaminskas, Bridge 2014, by co-occurrence",
    ),
    "kaminskas_content": Definition(
        "distance in content to the nearest item of the history", "Kaminskas, Bridge 2014, by content", "content"
    ),
    "vargas_profile": Definition(
        "mean distance in content to the items of the history",
        "Vargas, Castells 2011, distance to the profile",
        "content",
    ),
    "vargas_popularity": Definition(
        "self-information of the item: -log2 of the share of users who have it", "Vargas, Castells 2011, popularity"
    ),
}


@dataclass(frozen=True, eq=False)
class AnalysedLists:
    """What is analysed: lists int32 (n_users, n), -1 for empty places; user_rows, rows of `history`; expected int32
    (n_users, m), primitive lists; relevant bool (n_users, n), or None where nobody knows; vectors: content of items, or
    None."""

    lists: np.ndarray
    user_rows: np.ndarray
    history: InteractionMatrix
    expected: np.ndarray
    relevant: np.ndarray | None = None
    vectors: sparse.csr_array | None = None


def surprises(listed: AnalysedLists, progress: Progress | None = None) -> dict[str, np.ndarray]:
    """Every definition that the data allows: float64 (n_users, n) by name, NaN for empty places and where there is
    nothing to compare with. Raises DataError where tables of items would not fit into memory."""
    there = np.unique(listed.lists[listed.lists >= 0])
    n_items = listed.history.shape[1]
    if len(there) * n_items > MOST_CELLS:
        raise DataError(
            f"{len(there):,} listed items against {n_items:,} are too many to compare: analyse lists of fewer users",
            where="lists",
        )
    place_of = np.full(n_items, -1, dtype=np.int32)
    place_of[there] = np.arange(len(there), dtype=np.int32)
    empty = np.empty((0, 0), dtype=np.float32)
    distances = empty if listed.vectors is None else content_distances(listed.vectors, there)
    associations = company(listed.history, there)
    indptr, indices = _histories(listed)
    out = np.empty((*listed.lists.shape, len(FACES)))

    def work(lo: int, hi: int) -> None:
        mine = indptr[lo : hi + 1]
        list_distances(
            listed.lists[lo:hi], place_of, distances, associations, mine, indices, listed.expected[lo:hi], out[lo:hi]
        )

    run_ranges(work, even_ranges(len(listed.lists), USERS_AT_A_TIME), progress=progress)
    nearest_known, mean_known, nearest_expected, association = (out[:, :, face] for face in range(len(FACES)))
    by_definition = {
        "murakami": _murakami(listed),
        "ge": _ge(listed),
        "adamopoulos": nearest_expected,
        "kaminskas_company": (1 - association) / 2,
        "kaminskas_content": nearest_known,
        "vargas_profile": mean_known,
        "vargas_popularity": _self_information(listed),
    }
    return {name: values for name, values in by_definition.items() if not np.isnan(values).all()}


def normalised(values: np.ndarray) -> np.ndarray:
    """Values from 0, the least of all, to 1, the most; all 0 where they are the same. NaN stays."""
    low, high = np.nanmin(values), np.nanmax(values)
    return (values - low) / (high - low) if high > low else values * 0.0


def content_distances(vectors: sparse.csr_array, rows: np.ndarray) -> np.ndarray:
    """1 less the cosine of the content of some items and all: float32 (len(rows), n_items). 1 where there is none."""
    lengths = np.sqrt(np.asarray(vectors.multiply(vectors).sum(axis=1)).ravel())
    unit = sparse.csr_array(sparse.diags_array(1 / np.maximum(lengths, 1e-12)) @ vectors)
    return np.clip(1 - (unit[rows] @ unit.T).toarray(), 0, 1).astype(np.float32)


def company(history: InteractionMatrix, rows: np.ndarray) -> np.ndarray:
    """Normalised pointwise mutual information of some items and all, by users who have both: float32 (len(rows),
    n_items), -1 never together, 0 independent, 1 always together (Bouma 2009)."""
    n_users = history.shape[0]
    binary = sparse.csr_array((np.ones(history.n_cells, np.float32), history.indices, history.indptr), history.shape)
    both = (sparse.csr_array(binary.T)[rows] @ binary).toarray() / n_users
    alone = np.bincount(history.indices, minlength=history.shape[1]) / n_users
    with np.errstate(divide="ignore", invalid="ignore"):
        mutual = np.log(both / (alone[rows][:, None] * alone[None, :])) / -np.log(both)
    # two items that everybody has go together always, and say nothing of each other
    return np.where(both > 0, np.where(both < 1, mutual, 1.0), -1.0).astype(np.float32)


def _histories(listed: AnalysedLists) -> tuple[np.ndarray, np.ndarray]:
    """What each row's user has, row by row of the lists."""
    history = listed.history
    starts, stops = history.indptr[listed.user_rows], history.indptr[listed.user_rows + 1]
    indptr = np.concatenate([[0], np.cumsum(stops - starts)]).astype(np.int64)
    parts = [history.indices[start:stop] for start, stop in zip(starts, stops, strict=True)]
    return indptr, np.concatenate(parts) if parts else np.empty(0, np.int32)


def _places_expected(listed: AnalysedLists) -> np.ndarray:
    """The place of every listed item in the primitive list, from 1; 0 where it is not there: int64 (n_users, n)."""
    same = listed.lists[:, :, None] == listed.expected[:, None, :]
    return np.where(same.any(axis=2), same.argmax(axis=2) + 1, 0)


def _blank(listed: AnalysedLists, values: np.ndarray) -> np.ndarray:
    return np.where(listed.lists >= 0, values, np.nan)


def _murakami(listed: AnalysedLists) -> np.ndarray:
    """max(P - Prim, 0) * rel * hits so far / place, P and Prim being 1 at the top of a list and 0 beyond its end."""
    n, m = listed.lists.shape[1], listed.expected.shape[1]
    places = np.arange(1, n + 1)
    ours = 1 - (places - 1) / n
    theirs = _places_expected(listed)
    gap = np.maximum(ours - np.where(theirs > 0, 1 - (theirs - 1) / max(m, 1), 0.0), 0)
    relevant = np.ones(listed.lists.shape) if listed.relevant is None else listed.relevant
    return _blank(listed, gap * relevant * np.cumsum(relevant, axis=1) / places)


def _ge(listed: AnalysedLists) -> np.ndarray:
    unexpected = _places_expected(listed) == 0
    return _blank(listed, (unexpected if listed.relevant is None else unexpected & listed.relevant).astype(np.float64))


def _self_information(listed: AnalysedLists) -> np.ndarray:
    n_users, n_items = listed.history.shape
    share = np.maximum(np.bincount(listed.history.indices, minlength=n_items), 1) / n_users
    return _blank(listed, -np.log2(share)[listed.lists])


Distribution = dict[str, float]
SUMMARY: dict[str, Callable[[np.ndarray], float]] = {
    "mean": np.mean,
    "deviation": np.std,
    "least": np.min,
    "quarter": lambda values: np.quantile(values, 0.25),
    "half": np.median,
    "three_quarters": lambda values: np.quantile(values, 0.75),
    "most": np.max,
}


def summary(values: np.ndarray) -> Distribution:
    """Mean, deviation and quartiles of what is no NaN."""
    known = values[~np.isnan(values)]
    return {name: float(figure(known)) for name, figure in SUMMARY.items()} if len(known) else {}


def per_user(values: np.ndarray) -> np.ndarray:
    """Means over each list: float64 (n_users,), NaN where a list has no figure."""
    counted = (~np.isnan(values)).sum(axis=1)
    return np.where(counted > 0, np.nansum(values, axis=1) / np.maximum(counted, 1), np.nan)
