"""Rows that judge, less those that lists had a part in."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.splits.truth import Truth

ShownTo = Callable[[Sequence[str]], Iterable[tuple[str, str]]]
"""The (user, item) pairs that lists have shown to some users."""


@dataclass(frozen=True, eq=False)
class ShownPairs:
    """What lists had shown: pairs of rows of a training matrix, each as the one number user * items + item, sorted; and
    how many at most to one user."""

    pairs: np.ndarray
    most: int
    n_items: int

    @classmethod
    def nothing(cls) -> ShownPairs:
        """Every list and every row stays as it is."""
        return cls(np.zeros(0, dtype=np.int64), 0, 1)

    @classmethod
    def of(cls, truth: Truth, train: InteractionMatrix, shown_to: ShownTo) -> ShownPairs:
        """Look up what was shown to the users of a truth; items that training never saw are no candidates anyway."""
        shown = list(shown_to(train.users.take(truth.user_rows)))
        users = train.users.rows(user for user, _ in shown).astype(np.int64)
        items = train.items.rows(item for _, item in shown).astype(np.int64)
        n_items = len(train.items)
        pairs = np.unique((users * n_items + items)[items >= 0])
        most = int(np.unique(pairs // n_items, return_counts=True)[1].max(initial=0))
        return cls(pairs, most, n_items)

    def less(self, truth: Truth) -> Truth:
        """The truth without the pairs that were shown, and without users who had no other."""
        sizes = np.diff(truth.indptr)
        kept = ~self._has(np.repeat(truth.user_rows, sizes), truth.indices)
        left = np.add.reduceat(kept, truth.indptr[:-1], dtype=np.int64) if len(sizes) else sizes
        return Truth(
            truth.user_rows[left > 0],
            np.concatenate([[0], np.cumsum(left[left > 0])]).astype(np.int64),
            truth.indices[kept],
            truth.unseen_users,
            truth.unseen_items,
            truth.known_pairs,
            None if truth.gains is None else truth.gains[kept],
            truth.not_relevant,
        )

    def out_of(self, items: np.ndarray, user_rows: np.ndarray, n: int) -> np.ndarray:
        """Lists (users, places), `most` longer than n, without what was shown: the rest moves up, n places stay."""
        return closed_up(np.where(self._has(user_rows[:, None], items), -1, items))[:, :n]

    def _has(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        return (items >= 0) & np.isin(users.astype(np.int64) * self.n_items + items, self.pairs)


def closed_up(items: np.ndarray) -> np.ndarray:
    """Lists without the gaps of items that are not there: the rest moves up, -1 stands behind the last."""
    gone = items < 0
    order = np.argsort(gone, axis=1, kind="stable")
    return np.take_along_axis(items, order, axis=1).astype(np.int32)
