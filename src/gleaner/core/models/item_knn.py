"""Item-item neighbourhood by cosine."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import require_range
from gleaner.core.kernels import cosine
from gleaner.core.models.protocol import Arrays, Model, Watch, require_cells
from gleaner.core.models.weighting import Weighting, require_weighting, weigh
from gleaner.core.parallel import balanced_ranges, default_threads, run_ranges
from gleaner.core.ranking.ties import tie_order

RANGES = 128


@dataclass
class ItemKnn(Model):
    """score(u, i) = sum over j in the history of u, where j is among the k nearest of i, of x_uj * likeness(i, j).

    x is the matrix after `weighting`.
    likeness(i, j) = x_i . x_j / (|x_i| |x_j| + shrinkage), the cosine of the items' columns (Sarwar, Karypis, Konstan,
    Riedl 2001), shrunk where little is shared. `neighbours` is k.
    """

    family: ClassVar[str] = "item_knn"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "items like those in the history, by cosine of who has them"
    folds_in: ClassVar[bool] = True

    neighbours: int = 100
    shrinkage: float = 10.0
    weighting: Weighting = "log"
    near_: np.ndarray = field(init=False, repr=False, default_factory=lambda: np.empty((0, 0), np.int32))
    likeness_: np.ndarray = field(init=False, repr=False, default_factory=lambda: np.empty((0, 0), np.float32))
    train_: InteractionMatrix | None = field(init=False, repr=False, default=None)

    def __post_init__(self) -> None:
        require_range("neighbours", self.neighbours, 1, 10_000, whole=True)
        require_range("shrinkage", self.shrinkage, 0)
        require_weighting(self.weighting)

    def fit(self, train: InteractionMatrix, *, features: Any = None, watch: Watch | None = None) -> Self:
        """Find the nearest items. Cost: the sum over users of their squared history length."""
        require_cells(train, self.family)
        indptr, users, values = train.by_item
        values, by_user = self._weigh(values), self._weigh(train.values)
        n_items = len(train.items)
        squares = np.bincount(train.indices, weights=by_user.astype(np.float64) ** 2, minlength=n_items)
        norms = np.sqrt(squares).astype(np.float32)
        k = min(self.neighbours, max(1, n_items - 1))
        near = np.full((n_items, k), -1, dtype=np.int32)
        likeness = np.zeros((n_items, k), dtype=np.float32)
        shrink, order = np.float32(self.shrinkage), tie_order(train.items)

        def work(lo: int, hi: int) -> None:
            cosine.nearest_rows(
                lo,
                hi,
                indptr,
                users,
                values,
                train.indptr,
                train.indices,
                by_user,
                norms,
                shrink,
                order,
                near,
                likeness,
            )

        progress = None if watch is None else lambda share: watch(share, 1, {})
        # an item costs the histories of its users, so that is what the ranges are balanced by
        lengths = np.diff(train.indptr)
        cost = np.bincount(train.indices, weights=np.repeat(lengths, lengths), minlength=n_items)
        ranges = balanced_ranges(np.concatenate([[0], np.cumsum(cost)]).astype(np.int64), RANGES * default_threads())
        run_ranges(work, ranges, progress=progress)
        return self._keep(near, likeness, train)

    def _weigh(self, values: np.ndarray) -> np.ndarray:
        return weigh(values, self.weighting, self.family)

    def _keep(self, near: np.ndarray, likeness: np.ndarray, train: InteractionMatrix) -> Self:
        self.near_, self.likeness_, self.train_ = near, likeness, train
        used = near >= 0
        rows = np.nonzero(used)[0]
        table = sparse.csr_array((likeness[used], (rows, near[used])), shape=(len(near), len(near)))
        turned = table.T.tocsr()
        self._lists = (turned.indptr.astype(np.int64), turned.indices.astype(np.int32), turned.data)
        return self

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Sums over each user's training items."""
        train = self.train_
        assert train is not None
        lengths = np.diff(train.indptr)[user_rows]
        bounds = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
        # the places of all histories, one after the other: starts repeated, plus a count within each
        starts = np.repeat(train.indptr[user_rows] - bounds[:-1], lengths)
        places = starts + np.arange(bounds[-1])
        return self._scores(bounds, train.indices[places], self._weigh(train.values[places]))

    def _scores(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        out = np.zeros((len(bounds) - 1, len(self.near_)), dtype=np.float32)
        cosine.add_scores(bounds, items, values, *self._lists, out)
        return out

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The history itself: float32 (2, n), rows then values."""
        return np.vstack([item_rows, values]).astype(np.float32)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Sums over the given items."""
        items, values = representation[0].astype(np.int32), self._weigh(representation[1])
        return self._scores(np.array([0, len(items)], dtype=np.int64), items, values)[0]

    def state(self) -> Arrays:
        """The lists of nearest items."""
        return {"near": self.near_, "likeness": self.likeness_}

    def restore(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take the lists back."""
        return self._keep(arrays["near"], arrays["likeness"], train)
