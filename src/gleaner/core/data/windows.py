"""What is asked for within a window of time: rows of a version and those that came since."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

DAY_US = 86_400_000_000
NEVER = np.iinfo(np.int64).min
"""The time of a row that has none: longer ago than any."""


@dataclass(frozen=True, eq=False)
class TimedRows:
    """Rows in order of time: items int32, kinds int16 (-1 for none), times int64 (microseconds since 1970), each
    (n,)."""

    items: np.ndarray
    kinds: np.ndarray
    times: np.ndarray

    @classmethod
    def of(cls, items: np.ndarray, kinds: np.ndarray, times: np.ndarray) -> TimedRows:
        """Put rows in order; those without a time are left out."""
        dated = np.flatnonzero(times != NEVER)
        order = dated[np.argsort(times[dated], kind="stable")]
        return cls(items[order], kinds[order], times[order])

    @property
    def last(self) -> int:
        """The moment of the newest row; NEVER where there is none."""
        return int(self.times[-1]) if len(self.times) else NEVER

    def counts(self, n_items: int, kinds: np.ndarray | None, start: float, stop: float) -> np.ndarray:
        """Rows of each item from `start` up to, not with, `stop`: float64 (n_items,). kinds: only these."""
        stretch = slice(*np.searchsorted(self.times, [start, stop], side="left"))
        items = self.items[stretch]
        if kinds is not None:
            items = items[np.isin(self.kinds[stretch], kinds)]
        return np.bincount(items[items >= 0], minlength=n_items).astype(np.float64)


@dataclass(frozen=True, eq=False)
class MappedRows:
    """Rows counted by the items of another map. places: the item there of every item here, -1 for none."""

    rows: TimedRows
    places: np.ndarray

    @property
    def last(self) -> int:
        """As of the rows."""
        return self.rows.last

    def counts(self, n_items: int, kinds: np.ndarray | None, start: float, stop: float) -> np.ndarray:
        """The same, by the items there: float64 (n_items,)."""
        here = self.rows.counts(len(self.places), kinds, start, stop)
        there = self.places >= 0
        return np.bincount(self.places[there], weights=here[there], minlength=n_items)


Part = TimedRows | MappedRows


def popular_within(parts: Sequence[Part], n_items: int, kinds: np.ndarray | None, days: float) -> np.ndarray:
    """Rows of each item in the days up to the newest row: float64 (n_items,)."""
    last = max(part.last for part in parts)
    start = last - days * DAY_US
    return np.sum([part.counts(n_items, kinds, start, last + 1) for part in parts], axis=0)


def trending_within(
    parts: Sequence[Part], n_items: int, kinds: np.ndarray | None, days: float, usual_days: float
) -> np.ndarray:
    """How much more is asked for in these days than the share in the usual days before leads one to expect, in
    standard deviations: (r - e) / sqrt(e + 1), e = u / sum u * sum r, as the model `trending` has it: float64
    (n_items,)."""
    last = max(part.last for part in parts)
    start = last - days * DAY_US
    recent = np.sum([part.counts(n_items, kinds, start, last + 1) for part in parts], axis=0)
    usual = np.sum([part.counts(n_items, kinds, start - usual_days * DAY_US, start) for part in parts], axis=0)
    expected = usual / max(usual.sum(), 1) * recent.sum()
    return (recent - expected) / np.sqrt(expected + 1)
