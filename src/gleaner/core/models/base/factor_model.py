"""What all factor models share: scores as a product, likeness as an angle, fold-in as a regression."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import ParameterError
from gleaner.core.models.base.capabilities import (
    Factors,
    FoldsIn,
    FoldsInItems,
    HasFactors,
    HasItemLikeness,
    HasUserLikeness,
)
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.protocol import Arrays, Model, learned, no_array
from gleaner.core.models.base.watching import Watch, dead_factors

REFRESH_SHARE = 5
"""A refresh takes one in so many of the iterations of a fit."""

PAIRS_AT_ONCE = 1 << 16
DRAWN = 20
"""Items drawn against each item of a history, or users against each of an item, when something new is folded in."""


@dataclass(repr=False)
class FactorModel(Model, HasFactors, FoldsIn, FoldsInItems, HasItemLikeness, HasUserLikeness):
    """score(u, i) = x_u . y_i. Where there are biases they are columns of x and y, the last `bias_columns` ones, so
    that ranking needs nothing but the product."""

    bias_columns: ClassVar[int] = 0

    user_factors_: np.ndarray = learned(no_array)
    item_factors_: np.ndarray = learned(no_array)
    train_: InteractionMatrix | None = learned(lambda: None)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Iterations over all cells, rank operations for each of both sides."""
        rank = params.get("rank", 1)
        return Cost(8.0 * params.get("iterations", 1) * rank * cells, 8.0 * rank * sum(shape) + 16.0 * cells)

    def require_same_rank(self, old: FactorModel, train: InteractionMatrix) -> None:
        """Raise ParameterError where an older model's factors do not fit."""
        rank = getattr(self, "rank", 0)
        require_rank(rank, train)
        if getattr(old, "rank", 0) != rank:
            raise ParameterError(f"rank is {rank}, and the older model has {getattr(old, 'rank', 0)}", where="rank")

    def warn_of_dead(self, watch: Watch) -> None:
        """A warning for factors that carry nothing."""
        dead = dead_factors(self.factors().item_tastes)
        if dead:
            watch.warn(
                f"factor collapse: {len(dead)} of the factors carry nothing; lower the rank or the regularisation"
            )

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """x_u . y_i for every item."""
        return self.user_factors_[user_rows] @ self.item_factors_.T

    def item_scores(self, item_rows: np.ndarray) -> np.ndarray:
        """x_u . y_i for every user."""
        return self.item_factors_[item_rows] @ self.user_factors_.T

    def factors(self) -> Factors:
        """The factors as they are."""
        return Factors(self.user_factors_, self.item_factors_, self.bias_columns)

    @abstractmethod
    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The factor of a user with these items, the other side held: float32 (width,)."""

    @abstractmethod
    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The factor of an item with these users, the other side held: float32 (width,)."""

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Product with every item factor."""
        return self.item_factors_ @ representation

    def scores_of_item(self, representation: np.ndarray) -> np.ndarray:
        """Product with every user factor."""
        return self.user_factors_ @ representation

    def item_likeness(self, item_row: int) -> tuple[np.ndarray, str]:
        """Cosine of item factors."""
        return cosines(self.factors().item_tastes, item_row), "cosine of item factors"

    def user_likeness(self, user_row: int) -> tuple[np.ndarray, str]:
        """Cosine of user factors."""
        return cosines(self.factors().user_tastes, user_row), "cosine of user factors"

    def state(self) -> Arrays:
        """Both factor matrices."""
        return {"user_factors": self.user_factors_, "item_factors": self.item_factors_}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Both of the width of the rank and the bias columns."""
        width = getattr(self, "rank", 0) + self.bias_columns
        return {
            "user_factors": ArraySpec("float32", (len(train.users), width)),
            "item_factors": ArraySpec("float32", (len(train.items), width)),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the factors."""
        self.user_factors_, self.item_factors_, self.train_ = arrays["user_factors"], arrays["item_factors"], train
        return self


def carry_over(mine: np.ndarray, ids: IdMap, theirs: np.ndarray, known: IdMap) -> None:
    """Give the rows that an older model knew its factors."""
    rows = known.rows(ids.ids.to_pylist())
    mine[rows >= 0] = theirs[rows[rows >= 0]]


def random_factors(seed: int, shape: tuple[int, int], rank: int, scale: float) -> tuple[np.ndarray, np.ndarray]:
    """Normal factors of both sides with deviation scale / sqrt(rank): float32."""
    random = np.random.Generator(np.random.PCG64(seed))
    spread = np.float32(scale / np.sqrt(rank))
    first, second = (random.standard_normal((n, rank), dtype=np.float32) * spread for n in shape)
    return first, second


def require_rank(rank: int, train: InteractionMatrix) -> None:
    """Raise ParameterError where a rank is above the matrix's."""
    if rank > min(train.shape):
        raise ParameterError(
            f"rank {rank} is above what {train.shape[0]} users and {train.shape[1]} items can carry; "
            f"choose at most {min(train.shape)}",
            where="rank",
        )


def cosines(vectors: np.ndarray, row: int) -> np.ndarray:
    """Cosine of every row to one, 0 for rows of zeros: float32 (n,)."""
    lengths = np.sqrt(np.einsum("ij,ij->i", vectors, vectors, dtype=np.float64))
    products = vectors @ vectors[row]
    size = lengths * lengths[row]
    return np.divide(products, size, out=np.zeros(len(vectors)), where=size > 0).astype(np.float32)


def ridge_fit(rows: np.ndarray, targets: np.ndarray, penalty: np.ndarray) -> np.ndarray:
    """w that minimises |targets - rows w|^2 + sum penalty_f w_f^2, in float64: (width,)."""
    rows = rows.astype(np.float64)
    return np.linalg.solve(rows.T @ rows + np.diag(penalty), rows.T @ targets)


def logistic_fit(
    rows: np.ndarray, offsets: np.ndarray, signs: np.ndarray, weights: np.ndarray, penalty: np.ndarray
) -> np.ndarray:
    """w that minimises sum weights log(1 + exp(-signs (rows w + offsets))) + 0.5 sum penalty_f w_f^2.

    By Newton's method with step halving, in float64: (width,). penalty must be above 0.
    """
    rows = rows.astype(np.float64)
    w = np.zeros(rows.shape[1])

    def loss(w: np.ndarray) -> float:
        return float(weights @ np.logaddexp(0, -signs * (rows @ w + offsets)) + 0.5 * penalty @ w**2)

    now = loss(w)
    for _ in range(50):
        chance = 1 / (1 + np.exp(np.clip(signs * (rows @ w + offsets), -50, 50)))
        gradient = penalty * w - rows.T @ (weights * signs * chance)
        curve = (rows.T * (weights * chance * (1 - chance))) @ rows + np.diag(penalty)
        step = np.linalg.solve(curve, gradient)
        length = 1.0
        while length > 1e-6 and loss(w - length * step) > now:
            length /= 2
        w = w - length * step
        before, now = now, loss(w)
        if before - now < 1e-10 * max(1.0, abs(before)):
            break
    return w


def fold_by_draws(
    Y: np.ndarray, start: np.ndarray, item_rows: np.ndarray, random: np.random.Generator, penalty: float
) -> np.ndarray:
    """The vector of someone new, 1 behind it: float32 (rank + 1,). It minimises the pairwise logistic loss of their
    items against draws from the rest, and half of penalty times its squared distance from what is known of them.

    Y: factors of items, their bias last. start: float64 (rank,), zeros where nothing is known.
    """
    rank = Y.shape[1] - 1
    others = np.setdiff1d(np.arange(len(Y)), item_rows)
    if not len(others) or not len(item_rows):
        return np.append(start, 1).astype(np.float32)
    drawn = random.choice(others, len(item_rows) * DRAWN)
    repeated = np.repeat(item_rows, DRAWN)
    rows, offsets = Y[repeated, :rank] - Y[drawn, :rank], (Y[repeated, rank] - Y[drawn, rank]).astype(np.float64)
    offsets += rows @ start
    weights = np.full(len(rows), 1 / DRAWN)
    fitted = logistic_fit(rows, offsets, np.ones(len(rows)), weights, np.full(rank, penalty))
    return np.append(start + fitted, 1).astype(np.float32)


def pair_products(X: np.ndarray, Y: np.ndarray, users: np.ndarray, items: np.ndarray) -> np.ndarray:
    """x_u . y_i of pairs, float64 (n,), so many pairs at a time that memory stays small."""
    products = np.empty(len(users))
    for lo in range(0, len(users), PAIRS_AT_ONCE):
        part = slice(lo, lo + PAIRS_AT_ONCE)
        products[part] = np.einsum("ij,ij->i", X[users[part]], Y[items[part]], dtype=np.float64)
    return products
