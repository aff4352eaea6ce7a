"""One user's best items by a general-purpose vector index: not exact, and for very large catalogues quicker.

Needs the optional package `usearch` (the extra `approximate`). The best by product become the nearest by turning items
into vectors of one length: a component more takes what each lacks of the longest (Bachrach et al. 2014).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from gleaner.core.errors import InputError
from gleaner.core.ranking.factor_index import FactorIndex
from gleaner.core.ranking.topn import Lists, top_of

LINKS, LOOKED_AT = 32, 256
"""Neighbours that each item is linked to, and items looked at for them: what products need, which are harder to find
by than distances."""

ALONE = 20_000
"""Items up to which one thread builds the graph, in seconds. Items that are put in at the same time are not linked to
each other: of a small catalogue two threads lose links that lists need, and eight up to a tenth of the recall."""


@dataclass(frozen=True)
class IndexRecall:
    """How many of the exact best it finds: the share over sampled users, and the worst of them."""

    users: int
    n: int
    mean: float
    least: float


@dataclass(frozen=True, eq=False)
class ApproximateIndex:
    """A graph over items, and the exact index behind it. candidates: how many are looked up and scored exactly."""

    exact: FactorIndex
    graph: Any
    candidates: int

    @classmethod
    def of(cls, exact: FactorIndex, candidates: int) -> ApproximateIndex:
        """Build the graph: seconds for ten thousand items, minutes for a million; up to ALONE items the same one each
        time. Raises InputError without the package."""
        try:
            from usearch.index import Index
        except ImportError:
            text = "approximate retrieval needs the optional package: install gleaner[approximate]"
            raise InputError(text, where="approximate") from None
        factors = exact.factors
        squares = np.einsum("ij,ij->i", factors, factors, dtype=np.float64)
        lacking = np.sqrt(np.maximum(squares.max(initial=0.0) - squares, 0.0))
        vectors = np.column_stack([factors, lacking]).astype(np.float32)
        graph = Index(
            ndim=vectors.shape[1], metric="ip", dtype="f32", connectivity=LINKS, expansion_add=LOOKED_AT,
            expansion_search=max(LOOKED_AT, candidates),
        )  # fmt: skip
        threads = 1 if len(vectors) <= ALONE else 0  # 0: all there are
        graph.add(np.arange(len(vectors), dtype=np.uint64), vectors, threads=threads)
        return cls(exact, graph, candidates)

    def best(
        self, user: np.ndarray, n: int, allowed: np.ndarray | None = None, left_out: np.ndarray | None = None
    ) -> Lists:
        """As `FactorIndex.best`, of the candidates that the graph finds; exactly where these do not fill the list."""
        n_items = len(self.exact.factors)
        wanted = min(n_items, max(self.candidates, 2 * n))
        query = np.append(np.asarray(user, np.float32), np.float32(0))
        rows = np.sort(np.asarray(self.graph.search(query, wanted).keys).astype(np.int32))
        if allowed is not None:
            rows = rows[allowed[rows]]
        if left_out is not None and len(left_out):
            rows = np.setdiff1d(rows, left_out, assume_unique=True)
        if len(rows) < min(n, n_items):
            return self.exact.best(user, n, allowed, left_out)
        nearest = top_of(self.exact.factors[rows] @ np.asarray(user, np.float32), n, self.exact.ties[rows])
        return Lists(rows[nearest.items], nearest.scores)

    def recall(self, users: np.ndarray, n: int) -> IndexRecall:
        """Against the exact lists of some users' factors, float32 (m, n_factors)."""
        shares = []
        for user in users:
            exact = set(self.exact.best(user, n).items.tolist())
            shares.append(len(exact & set(self.best(user, n).items.tolist())) / max(len(exact), 1))
        return IndexRecall(len(users), n, float(np.mean(shares)), float(np.min(shares)))
