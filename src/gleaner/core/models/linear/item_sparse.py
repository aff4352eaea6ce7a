"""Sparse linear item-item model: elastic-net regressions with weights that are not negative."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import InputError, require_range
from gleaner.core.kernels import descent
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.history import LearnedHistoryModel, sparse_times
from gleaner.core.models.base.likeness import Cells, Nearest, nearest_layout
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.base.weighting import WEIGHTING_MEANS, Weighting, require_weighting, weigh
from gleaner.core.models.linear.item_linear import require_few_items
from gleaner.core.parallel import default_threads, even_ranges, run_ranges

MAX_ITEMS = 20_000
"""The Gram matrix is dense in float32: 1.6 GB at this size."""
TOLERANCE = 1e-5


@dataclass(repr=False)
class ItemSparse(LearnedHistoryModel):
    """score(u, i) = sum over j in the history of u of x_uj W_ji, column i of W the solution of

        minimise 0.5 |x_i - X w|^2 + 0.5 l2 |w|^2 + l1 sum of w,   w not negative, w_i = 0

    by coordinate descent (Ning, Karypis 2011). Most weights are exactly 0; the `neighbours` largest of a column are
    kept. x is the matrix after `weighting`.
    """

    family: ClassVar[str] = "item_sparse"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "each item as a sparse, non-negative regression on others"
    source: ClassVar[str] = "Ning, Karypis 2011"
    unfit: ClassVar[str] = "more than 20,000 items"
    effort: ClassVar[str] = "the same Gram matrix in float32, then sweeps over items that share users"

    l1: float = parameter(2.0, "weight of the sum of weights: more of them become 0")
    l2: float = parameter(50.0, "weight of their squares")
    neighbours: int = parameter(300, "nearest kept")
    sweeps: int = parameter(20, "passes of coordinate descent at most")
    weighting: Weighting = parameter("binary", WEIGHTING_MEANS)
    nearest_: Nearest = learned(lambda: Nearest(*3 * [np.empty((0, 0), np.int32)]))
    lists_: Cells = learned(tuple)

    def __post_init__(self) -> None:
        require_range("l1", self.l1, 0)
        require_range("l2", self.l2, 0)
        require_range("neighbours", self.neighbours, 1, 10_000, whole=True)
        require_range("sweeps", self.sweeps, 1, 1000, whole=True)
        require_weighting(self.weighting)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """The Gram matrix, then coordinate descent over items that share users."""
        return Cost(6.0 * cells**2 / shape[0] + shape[1] ** 2 * 400.0, 8.0 * shape[1] ** 2)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """One regression an item."""
        n_items = len(train.items)
        require_few_items(self.family, n_items, MAX_ITEMS)
        self.keep_training(train)
        X = sparse.csr_array((self.x_, train.indices, train.indptr), shape=train.shape)
        gram = np.ascontiguousarray((X.T @ X).toarray(), dtype=np.float32)
        self._solve(gram, watch)

    def _solve(self, gram: np.ndarray, watch: Watch) -> None:
        n_items = len(gram)
        k = min(self.neighbours, n_items)
        kept, weights = np.full((n_items, k), -1, np.int32), np.zeros((n_items, k), np.float32)
        counts = np.zeros(n_items, np.int64)

        def work(lo: int, hi: int) -> None:
            descent.sparse_columns(lo, hi, gram, self.l1, self.l2, self.sweeps, TOLERANCE, kept, weights, counts)

        size = max(1, n_items // (16 * default_threads()))
        run_ranges(work, even_ranges(n_items, size), progress=watch.part(0.1, 1.0))
        if not counts.any() and n_items > 1:
            watch.warn("every weight is 0: lower l1")
        self._keep(Nearest(kept, weights, np.zeros((n_items, 0), np.int32)))

    def _keep(self, nearest: Nearest) -> None:
        self.nearest_, self.lists_ = nearest, nearest.turned()

    def weigh(self, values: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        """By `weighting`."""
        return weigh(values, self.weighting, self.family)

    def weights_to(self, item_row: int) -> np.ndarray:
        """Column i of W."""
        out = np.zeros(len(self.nearest_.near), dtype=np.float32)
        used = self.nearest_.near[item_row] >= 0
        out[self.nearest_.near[item_row][used]] = self.nearest_.likeness[item_row][used]
        return out

    def times_weights(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Histories times W."""
        return sparse_times(self.lists_, len(self.nearest_.near), bounds, items, values)

    def column_of(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The regression of a new item on the items its users have; no other item can have a weight."""
        train = self.trained_on
        X = sparse.csr_array((self.x_, train.indices, train.indptr), shape=train.shape)
        target = np.zeros(len(train.users), dtype=np.float32)
        target[user_rows] = self.weigh(values, np.empty(0))
        shared = X.T @ target
        active = np.flatnonzero(shared > self.l1)
        if len(active) > MAX_ITEMS:
            raise InputError(f"{self.family}: too many items are shared", where="item")
        part = X[:, active]
        gram = np.zeros((len(active) + 1, len(active) + 1), dtype=np.float32)
        gram[1:, 1:] = (part.T @ part).toarray()
        gram[0, 1:] = gram[1:, 0] = shared[active]
        kept, weights = (
            np.full((len(gram), self.neighbours), -1, np.int32),
            np.zeros((len(gram), self.neighbours), np.float32),
        )
        counts = np.zeros(len(gram), np.int64)
        descent.sparse_columns(0, 1, gram, self.l1, self.l2, self.sweeps, TOLERANCE, kept, weights, counts)
        out = np.zeros(len(train.items), dtype=np.float32)
        used = kept[0] >= 0
        out[active[kept[0][used] - 1]] = weights[0][used]
        return out

    def state(self) -> Arrays:
        """The weights that are not 0."""
        return {"near": self.nearest_.near, "weights": self.nearest_.likeness}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Lists of items, without overlaps."""
        lists = nearest_layout(len(train.items), len(train.users))
        return {"near": lists["near"], "weights": lists["likeness"]}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the weights."""
        self.keep_training(train)
        self._keep(Nearest(arrays["near"], arrays["weights"], np.zeros((len(train.items), 0), np.int32)))
        return self
