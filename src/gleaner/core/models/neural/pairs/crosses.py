"""A weight for every meeting of a feature of whoever asks with one of the item: the wide part of a network."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.side_inputs import SideInputs

MOST_FEATURES = 128
"""Of either side; columns that would bring more than that in all are left out."""
CROSSED = ("category", "categories", "flag")


def crossed_features(side: SideInputs) -> np.ndarray:
    """Which features of a side are crossed: those of columns of categories, as long as there are few: int64."""
    kept: list[np.ndarray] = []
    start = 0
    for each in side.encodings:
        n = len(each.names)
        if each.role in CROSSED and sum(len(some) for some in kept) + n <= MOST_FEATURES:
            kept.append(np.arange(start, start + n))
        start += n
    return np.concatenate(kept) if kept else np.empty(0, np.int64)


def table_of(side: SideInputs, features: np.ndarray) -> sparse.csr_array:
    """The amounts of some features in every row: float32 (n_rows, n)."""
    if not side.encodings:
        return sparse.csr_array((side.n_rows, 0), dtype=np.float32)
    # the bags of a row lie one after the other: every n_columns-th bound is where a row begins
    bounds = side.bags.indptr[:: len(side.encodings)]
    whole = sparse.csr_array((side.bags.amounts, side.bags.rows, bounds), shape=(side.n_rows, side.n_features))
    return sparse.csr_array(whole[:, features], dtype=np.float32)


@dataclass(eq=False)
class Crosses:
    """weights: float32 (features of users and of the context, features of items). items: float32 (n_items, features of
    items), what each of them has. user_features: int64, which of the users' are crossed."""

    user_features: np.ndarray
    weights: np.ndarray
    items: np.ndarray

    def of_users(self, side: SideInputs) -> np.ndarray:
        """What the features of users add to each feature of items: float32 (n, features of items)."""
        table = table_of(side, self.user_features)
        return np.asarray(table @ self.weights[: len(self.user_features)], np.float32)

    def of_context(self, codes: np.ndarray) -> np.ndarray:
        """What rows of the context add, by the rows of its table: the same."""
        return self.weights[len(self.user_features) + codes].sum(axis=1, dtype=np.float32)

    def scores(self, crossed: np.ndarray) -> np.ndarray:
        """What it all adds to every item: float32 (n, n_items)."""
        return crossed @ self.items.T

    def scores_among(self, crossed: np.ndarray, items: np.ndarray) -> np.ndarray:
        """What it adds to some items, from one row: float32 (m,)."""
        return self.items[items] @ crossed[0]

    def pairs(self, crossed: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The same of pairs: float32 (n,)."""
        return np.asarray(np.einsum("ij,ij->i", self.items[items], crossed), np.float32)

    def with_items(self, more: sparse.csr_array) -> Crosses:
        """With the features of more items behind."""
        return Crosses(self.user_features, self.weights, np.concatenate([self.items, more.toarray()]))

    def state(self) -> Arrays:
        """The weights, and the features of users and items."""
        return {"crosses": self.weights, "crossed_users": self.user_features, "crossed_items": self.items}

    @staticmethod
    def layout(n_items: int) -> Layout:
        """What the arrays must be."""
        return {
            "crosses": ArraySpec("float32", ("features that ask", "features of items that are crossed")),
            "crossed_users": ArraySpec("int64", ("features of users that are crossed",), low=0),
            "crossed_items": ArraySpec("float32", (n_items, "features of items that are crossed")),
        }

    @classmethod
    def load_state(cls, arrays: Arrays) -> Crosses:
        """Load them."""
        return cls(arrays["crossed_users"], arrays["crosses"], arrays["crossed_items"])
