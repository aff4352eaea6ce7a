"""User-user neighbourhood for implicit feedback."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

import numpy as np

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.capabilities import Explains, FoldsIn, FoldsInItems, HasUserLikeness, Terms
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.history import sparse_times
from gleaner.core.models.base.likeness import (
    SIMILARITY_MEANS,
    Cells,
    ComparedRows,
    ComparesRows,
    Nearest,
    Rule,
    likeness_of_one,
    nearest,
    nearest_layout,
    of_matrix,
    require_similarity,
    transpose,
)
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.base.weighting import (
    TEXT_WEIGHTINGS,
    WEIGHTING_MEANS,
    TextWeighting,
    TextWeights,
    require_weighting,
)
from gleaner.core.models.neighbours.item_knn import SIMILARITIES


@dataclass(repr=False)
class UserKnn(Model, FoldsIn, FoldsInItems, Explains, HasUserLikeness, ComparesRows):
    """score(u, i) = sum over the k users v most like u who have i of likeness(u, v) x_vi.

    likeness as in item_knn, over the items both have (Resnick, Iacovou, Suchak, Bergstrom, Riedl 1994 for the idea).
    """

    family: ClassVar[str] = "user_knn"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "what the most similar users have"
    source: ClassVar[str] = "Resnick, Iacovou, Suchak, Bergstrom, Riedl 1994"
    unfit: ClassVar[str] = "many users of the same few items: the search costs the sum of squared item counts"
    effort: ClassVar[str] = "sum over items of their squared count of users; memory users x neighbours"

    neighbours: int = parameter(100, "nearest kept")
    similarity: Literal["cosine", "jaccard", "log_likelihood"] = parameter("cosine", SIMILARITY_MEANS)
    shrinkage: float = parameter(10.0, "likeness times n / (n + shrinkage), n in common")
    asymmetry: float = parameter(0.5, "power of the own norm against the neighbour's in the cosine; 0.5 is symmetric")
    weighting: TextWeighting = parameter("tfidf", WEIGHTING_MEANS)
    nearest_: Nearest = learned(lambda: Nearest(*3 * [np.empty((0, 0), np.int32)]))
    text_: TextWeights | None = learned(lambda: None)
    train_: InteractionMatrix | None = learned(lambda: None)
    cells_: Cells = learned(tuple)

    def __post_init__(self) -> None:
        require_range("neighbours", self.neighbours, 1, 10_000, whole=True)
        require_similarity(self.similarity, SIMILARITIES)
        require_range("shrinkage", self.shrinkage, 0)
        require_range("asymmetry", self.asymmetry, 0, 1)
        require_weighting(self.weighting, TEXT_WEIGHTINGS)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """The sum over items of their squared count of users, which is skewed."""
        return Cost(15.0 * cells**2 / shape[1], 12.0 * params["neighbours"] * shape[0] + 20.0 * cells)

    @property
    def _rule(self) -> Rule:
        return Rule(self.similarity, self.shrinkage, 1, self.asymmetry)

    def _prepare(self, train: InteractionMatrix) -> None:
        self.text_ = TextWeights.learn(train, self.weighting, self.family)
        self.train_, self.cells_ = train, of_matrix(train, self.text_.of(train))

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Find the nearest users."""
        self._prepare(train)
        turned = transpose(self.cells_, len(train.items))
        self.nearest_ = nearest(self.cells_, turned, train.users, self.neighbours, self._rule, watch)

    def compared_rows(self, side: Literal["item", "user"]) -> ComparedRows | None:
        """Users by the weighed values of what they have."""
        if side == "item":
            return None
        weighed = f", weighed by {self.weighting}" if self.similarity == "cosine" else ""
        by = f"{self.similarity} of what they have{weighed}"
        return ComparedRows(self.cells_, len(self.trained_on.items), self._rule, by)

    def _sum(self, bounds: np.ndarray, mates: np.ndarray, alike: np.ndarray) -> np.ndarray:
        return sparse_times(self.cells_, len(self.trained_on.items), bounds, mates, alike)

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Sums over the nearest users' items."""
        used = self.nearest_.near[user_rows] >= 0
        bounds = np.concatenate([[0], np.cumsum(used.sum(axis=1))]).astype(np.int64)
        return self._sum(bounds, self.nearest_.near[user_rows][used], self.nearest_.likeness[user_rows][used])

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Likeness to every user, 0 beyond the k nearest: float32 (n_users,)."""
        assert self.text_ is not None
        weighed = self.text_.weigh(np.asarray(values, np.float32), np.asarray(item_rows))
        near = likeness_of_one(item_rows, weighed, self.cells_, len(self.trained_on.items), self._rule)
        alike = near.likeness[0]
        alike[np.argsort(-alike, kind="stable")[self.neighbours :]] = 0
        return alike

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Sums over the nearest users' items."""
        mates = np.flatnonzero(representation > 0).astype(np.int32)
        return self._sum(np.array([0, len(mates)], dtype=np.int64), mates, representation[mates])[0]

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The item's values by user, weighed by log or 1 where rarity is unknown: float32 (n_users,)."""
        values = np.asarray(values, dtype=np.float32)
        out = np.zeros(len(self.trained_on.users), dtype=np.float32)
        out[user_rows] = np.log1p(values) if self.weighting == "log" else values if self.weighting == "value" else 1.0
        return out

    def scores_of_item(self, representation: np.ndarray) -> np.ndarray:
        """For each user the sum over their nearest users who touched it."""
        near = self.nearest_.near
        values = np.where(near >= 0, representation[np.maximum(near, 0)], 0)
        return (values * self.nearest_.likeness).sum(axis=1).astype(np.float32)

    def terms(self, user_row: int, item_row: int) -> Terms:
        """likeness * value over the nearest users who have the item."""
        near, alike, overlap = self.nearest_.row(user_row)
        value = np.zeros(len(near))
        indptr, items, values = self.cells_
        for place, mate in enumerate(near):
            at = np.flatnonzero(items[indptr[mate] : indptr[mate + 1]] == item_row)
            value[place] = values[indptr[mate] + at[0]] if len(at) else 0
        kept = value != 0
        columns = {"value": value, "likeness": alike.astype(np.float64), "overlap": overlap.astype(np.float64)}
        columns["adds"] = value * columns["likeness"]
        return Terms("user", near[kept], {name: part[kept] for name, part in columns.items()}, "value * likeness")

    def user_likeness(self, user_row: int) -> tuple[np.ndarray, str]:
        """Likeness of the nearest."""
        out = np.zeros(len(self.nearest_.near), dtype=np.float32)
        near, alike, _ = self.nearest_.row(user_row)
        out[near] = alike
        return out, f"{self.similarity} of what they have"

    def state(self) -> Arrays:
        """The lists of nearest users."""
        return {"near": self.nearest_.near, "likeness": self.nearest_.likeness, "overlap": self.nearest_.overlap}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Lists of users."""
        return nearest_layout(len(train.users), len(train.items))

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the lists."""
        self._prepare(train)
        self.nearest_ = Nearest(arrays["near"], arrays["likeness"], arrays["overlap"])
        return self
