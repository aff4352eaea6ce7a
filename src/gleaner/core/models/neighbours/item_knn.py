"""Item-item neighbourhood for implicit feedback."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

import numpy as np

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.history import LearnedHistoryModel, sparse_times
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
from gleaner.core.models.base.protocol import Arrays, learned
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.base.weighting import (
    TEXT_WEIGHTINGS,
    WEIGHTING_MEANS,
    TextWeighting,
    TextWeights,
    require_weighting,
)

SIMILARITIES = ("cosine", "jaccard", "log_likelihood")


@dataclass(repr=False)
class ItemNeighbours(LearnedHistoryModel, ComparesRows):
    """score(u, i) = sum over j in the history of u, where j is among the k nearest of i, of x_uj likeness(i, j).

    A subclass says what likeness is, and how cells weigh.
    """

    feedback: ClassVar = "implicit"

    neighbours: int = parameter(100, "nearest kept")
    shrinkage: float = parameter(10.0, "likeness times n / (n + shrinkage), n in common")
    nearest_: Nearest = learned(lambda: Nearest(*3 * [np.empty((0, 0), np.int32)]))
    lists_: Cells = learned(tuple)

    def __post_init__(self) -> None:
        require_range("neighbours", self.neighbours, 1, 10_000, whole=True)
        require_range("shrinkage", self.shrinkage, 0)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """The sum over users of their squared history length; twice the mean square for the skew of real data."""
        return Cost(6.0 * cells**2 / shape[0], 12.0 * params["neighbours"] * shape[1] + 20.0 * cells)

    @property
    @abstractmethod
    def rule(self) -> Rule:
        """What likeness is."""

    @abstractmethod
    def weigh_new(self, values: np.ndarray) -> np.ndarray:
        """The values of an item that training never saw, whose rarity is unknown: float32."""

    def prepare(self, train: InteractionMatrix) -> None:
        """What is learned before neighbours are sought."""
        self.keep_training(train)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Find the nearest items."""
        self.prepare(train)
        by_user = of_matrix(train, self.x_)
        by_item = transpose(by_user, len(train.items))
        self._keep(nearest(by_item, by_user, train.items, self.neighbours, self.rule, watch))

    def compared_rows(self, side: Literal["item", "user"]) -> ComparedRows | None:
        """Items by the weighed values of who has them."""
        if side == "user":
            return None
        train = self.trained_on
        by_item = transpose(of_matrix(train, self.x_), len(train.items))
        return ComparedRows(by_item, len(train.users), self.rule, self.compared_by)

    @property
    def compared_by(self) -> str:
        """What likeness is measured by, in words."""
        return f"{self.rule.similarity} of who has them"

    def _keep(self, near: Nearest) -> None:
        self.nearest_, self.lists_ = near, near.turned()

    def weights_to(self, item_row: int) -> np.ndarray:
        """Likeness of the k nearest, 0 for the rest."""
        out = np.zeros(len(self.nearest_.near), dtype=np.float32)
        near, alike, _ = self.nearest_.row(item_row)
        out[near] = alike
        return out

    def times_weights(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Sums over lists of nearest items."""
        return sparse_times(self.lists_, len(self.nearest_.near), bounds, items, values)

    def more_terms(self, items: np.ndarray, item_row: int) -> dict[str, np.ndarray]:
        """How many users have both."""
        near, _, overlap = self.nearest_.row(item_row)
        out = np.zeros(len(self.nearest_.near))
        out[near] = overlap
        return {"overlap": out[items]}

    def column_of(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Likeness of a new item to its k nearest."""
        train = self.trained_on
        weighed = self.weigh_new(values)
        by_item = transpose(of_matrix(train, self.x_), len(train.items))
        near = likeness_of_one(user_rows, weighed, by_item, len(train.users), self.rule)
        alike = near.likeness[0]
        if len(alike) > self.neighbours:
            alike[np.argsort(-alike, kind="stable")[self.neighbours :]] = 0
        return alike

    def state(self) -> Arrays:
        """The lists of nearest items."""
        return {"near": self.nearest_.near, "likeness": self.nearest_.likeness, "overlap": self.nearest_.overlap}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Lists of items."""
        return nearest_layout(len(train.items), len(train.users))

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the lists."""
        self.prepare(train)
        self._keep(Nearest(arrays["near"], arrays["likeness"], arrays["overlap"]))
        return self


@dataclass(repr=False)
class ItemKnn(ItemNeighbours):
    """score(u, i) = sum over j in the history of u, where j is among the k nearest of i, of x_uj likeness(i, j).

    x is the matrix after `weighting`, k is `neighbours`. likeness is n / (n + shrinkage), n the users of both, times

    - cosine: x_i . x_j / (|x_i|^2a |x_j|^(2 - 2a)), a = `asymmetry` (Sarwar, Karypis, Konstan, Riedl 2001; Aiolli 2013)
    - jaccard: users of both over users of either
    - log_likelihood: 1 - 1 / (1 + G2), G2 Dunning's statistic of the 2 x 2 table of users (Dunning 1993)
    """

    family: ClassVar[str] = "item_knn"
    summary: ClassVar[str] = "items like those in the history, by who has them"
    source: ClassVar[str] = "Sarwar, Karypis, Konstan, Riedl 2001; Ferrari Dacrema, Cremonesi, Jannach 2019"
    unfit: ClassVar[str] = "users with very long histories, if time is short"
    effort: ClassVar[str] = "sum over users of their squared history length; memory items x neighbours"

    similarity: Literal["cosine", "jaccard", "log_likelihood"] = parameter("cosine", SIMILARITY_MEANS)
    asymmetry: float = parameter(0.5, "power of the own norm against the neighbour's in the cosine; 0.5 is symmetric")
    weighting: TextWeighting = parameter("tfidf", WEIGHTING_MEANS)
    text_: TextWeights | None = learned(lambda: None)

    def __post_init__(self) -> None:
        super().__post_init__()
        require_similarity(self.similarity, SIMILARITIES)
        require_range("asymmetry", self.asymmetry, 0, 1)
        require_weighting(self.weighting, TEXT_WEIGHTINGS)

    @property
    def rule(self) -> Rule:
        return Rule(self.similarity, self.shrinkage, 1, self.asymmetry)

    @property
    def compared_by(self) -> str:
        """The similarity, and how cells weigh where it looks at that."""
        weighed = f", weighed by {self.weighting}" if self.similarity == "cosine" else ""
        return super().compared_by + weighed

    def prepare(self, train: InteractionMatrix) -> None:
        """Count, where rarity weighs."""
        self.text_ = TextWeights.learn(train, self.weighting, self.family)
        self.keep_training(train)

    def weigh(self, values: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        """By `weighting`, with what training counted."""
        assert self.text_ is not None
        return self.text_.weigh(values, item_rows)

    def weigh_training(self, train: InteractionMatrix) -> np.ndarray:
        """The same for all cells."""
        assert self.text_ is not None
        return self.text_.of(train)

    def weigh_new(self, values: np.ndarray) -> np.ndarray:
        """As they are, or by log or 1."""
        if self.weighting == "log":
            return np.asarray(np.log1p(values))
        return values if self.weighting == "value" else np.ones_like(values)
