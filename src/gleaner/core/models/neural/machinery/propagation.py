"""Propagation over the graph of users and items: linear, and without weights of its own."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy import sparse

from gleaner.core.data.interactions import InteractionMatrix


@dataclass(frozen=True, eq=False)
class Graph:
    """A_ui = 1 / sqrt(n_u n_i) where u has i, else 0; n how many edges each has. float32, users x items, and turned."""

    by_user: sparse.csr_array
    by_item: sparse.csr_array
    degrees: tuple[np.ndarray, np.ndarray]

    @classmethod
    def of(cls, train: InteractionMatrix) -> Graph:
        """An edge for every cell."""
        degrees = np.diff(train.indptr).astype(np.float64), train.item_counts.astype(np.float64)
        shares = (1 / np.sqrt(degrees[0][train.user_rows] * degrees[1][train.indices])).astype(np.float32)
        by_user = sparse.csr_array((shares, train.indices, train.indptr), shape=train.shape)
        return cls(by_user, sparse.csr_array(by_user.T.tocsr()), degrees)

    def in_torch(self, torch: Any) -> tuple[Any, Any]:
        """Both directions as torch matrices."""
        import warnings

        with warnings.catch_warnings():
            # that its sparse matrices may change in later releases, which are pinned here
            warnings.simplefilter("ignore", UserWarning)
            return tuple(
                torch.sparse_csr_tensor(
                    torch.from_numpy(each.indptr.astype(np.int64)),
                    torch.from_numpy(each.indices.astype(np.int64)),
                    torch.from_numpy(each.data),
                    size=each.shape,
                )
                for each in (self.by_user, self.by_item)
            )


def propagated(adjacency: tuple[Any, Any], users: Any, items: Any, layers: int) -> tuple[Any, Any]:
    """The mean over 0 to `layers` steps of vectors handed on along the edges, (users, items). The map is its own
    transpose: so gradients go back by it too."""
    by_user, by_item = adjacency
    total = users.clone(), items.clone()
    for _ in range(layers):
        users, items = by_user @ items, by_item @ users
        total[0].add_(users)
        total[1].add_(items)
    return total[0].div_(layers + 1), total[1].div_(layers + 1)


def handed_to_users(graph: Graph, users: np.ndarray, items: np.ndarray, layers: int) -> np.ndarray:
    """What each item has to hand on to someone new: float32 (n_items, width). The sum of it over the items they have,
    over the root of how many these are, is their vector where nothing of their own is known."""
    total = items.copy()
    for _ in range(layers - 1):
        users, items = graph.by_user @ items, graph.by_item @ users
        total += items
    share = 1 / np.sqrt(np.maximum(graph.degrees[1], 1)) / (layers + 1)
    return np.asarray(total * share[:, None], dtype=np.float32)
