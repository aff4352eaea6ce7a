"""What factor models trained by ranking losses share: epochs, item biases, fold-in by logistic regression."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.blocks import run_epoch
from gleaner.core.models.base.capabilities import HasLoss, Refreshable
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import (
    DRAWN,
    REFRESH_SHARE,
    FactorModel,
    carry_over,
    fold_by_draws,
    logistic_fit,
    pair_products,
    random_factors,
    require_rank,
)
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.watching import HeldOutCells, Watch


@dataclass(repr=False)
class RankedFactors(FactorModel, HasLoss):
    """score(u, i) = x_u . y_i + b_i, by stochastic gradient descent with the rate learning_rate / (1 + decay (t - 1)).

    The bias is the last column of y against a column of ones. Someone new gets the vector that minimises the pairwise
    logistic loss of their items against seeded draws from the rest, everything else held; a new item likewise, against
    items of its users, and against itself for users drawn from the rest.
    """

    feedback: ClassVar = "implicit"
    bias_columns: ClassVar[int] = 1

    rank: int = parameter(32, "length of the factors")
    regularisation: float = parameter(0.01, "lambda of the objective")
    learning_rate: float = parameter(0.05, "of the first epoch")
    decay: float = parameter(0.02, "the rate of epoch t is learning_rate / (1 + decay (t - 1))")
    iterations: int = parameter(60, "passes over the data")
    init_scale: float = parameter(0.1, "spread of the first factors, over the root of the rank")
    seed: int = parameter(1, "of every random choice")

    def __post_init__(self) -> None:
        require_range("rank", self.rank, 1, 4096, whole=True)
        require_range("regularisation", self.regularisation, 0)
        require_range("learning_rate", self.learning_rate, 1e-6, 10)
        require_range("decay", self.decay, 0, 10)
        require_range("iterations", self.iterations, 1, 1000, whole=True)
        require_range("init_scale", self.init_scale, 1e-6, 10)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Three factors read and written a cell, beside the draws."""
        rank = params["rank"]
        return Cost(params["iterations"] * cells * (3.5 * rank + 200.0), 8.0 * rank * sum(shape))

    @abstractmethod
    def epoch(self, train: InteractionMatrix, X: np.ndarray, Y: np.ndarray, rate: np.float32, seed: np.uint64) -> Any:
        """The work of one epoch, for `run_epoch`."""

    def initial_factors(self, train: InteractionMatrix) -> tuple[np.ndarray, np.ndarray]:
        """Factors to start from, with a column of ones for users and of zeros for items."""
        X, Y = random_factors(self.seed, train.shape, self.rank, self.init_scale)
        return np.column_stack([X, np.ones(len(X), np.float32)]), np.column_stack([Y, np.zeros(len(Y), np.float32)])

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Epochs over all cells."""
        require_rank(self.rank, train)
        self.train_ = train
        self.user_factors_, self.item_factors_ = self.initial_factors(train)
        self.run_epochs(train, self.iterations, watch)

    def run_epochs(self, train: InteractionMatrix, iterations: int, watch: Watch) -> None:
        """So many epochs from the factors as they are."""
        X, Y = self.user_factors_, self.item_factors_
        for iteration in range(1, iterations + 1):
            rate = np.float32(self.learning_rate / (1 + self.decay * (iteration - 1)))
            seed = np.uint64((self.seed * 1_000_003 + iteration) % 2**63)
            work = self.epoch(train, X, Y, rate, seed)
            total = run_epoch(
                train,
                self.seed,
                iteration,
                iterations,
                work,
                watch,
                stretches=self.stretches(train),
                after_stretch=self.end_stretch,
            )
            self.update_factors()
            if not watch.round(self, iteration, iterations, {"training": total / train.n_cells}):
                break
        self.forget_untouched(train)
        self.warn_of_dead(watch)

    def stretches(self, train: InteractionMatrix) -> int:
        """Parts that a turn of an epoch is cut into: more than one where something is to be done in between."""
        return 1

    def end_stretch(self) -> None:
        """What is to be done when all tasks of a stretch are done."""

    def update_factors(self) -> None:
        """Bring the factors up to date with the steps of an epoch, where these were not on the factors themselves."""

    def forget_untouched(self, train: InteractionMatrix) -> None:
        """A user or item without a cell keeps no random start."""
        self.user_factors_[np.diff(train.indptr) == 0, : self.rank] = 0
        self.item_factors_[train.item_counts == 0] = 0

    @abstractmethod
    def pair_loss(self, having: np.ndarray, other: np.ndarray) -> np.ndarray:
        """The loss of pairs: scores of items users have, and of items drawn against them; float64 (n,)."""

    def held_out_loss(self, held_out: HeldOutCells) -> float:
        """The mean loss of the cells, each against a seeded draw from what its user lacks in training, the same for
        every iteration."""
        train, n_items = self.trained_on, len(self.trained_on.items)
        drawn = self._random().integers(0, n_items, len(held_out.users))
        # cells are in the order of users and their items, so these numbers rise
        cells = train.user_rows.astype(np.int64) * n_items + train.indices
        wanted = held_out.users.astype(np.int64) * n_items + drawn
        at = np.minimum(np.searchsorted(cells, wanted), len(cells) - 1)
        kept = (cells[at] != wanted) & (drawn != held_out.items)
        users, factors = held_out.users[kept], (self.user_factors_, self.item_factors_)
        scores = (pair_products(*factors, users, rows[kept]) for rows in (held_out.items, drawn))
        return float(np.mean(self.pair_loss(*scores)))

    def _random(self) -> np.random.Generator:
        return np.random.Generator(np.random.PCG64([self.seed, 77]))

    def _penalty(self, n: int, width: int) -> np.ndarray:
        return np.full(width, max(2 * self.regularisation * n, 1e-3))

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The factor of someone with these items: float32 (rank + 1,)."""
        return self.fold_in_from(np.zeros(self.item_factors_.shape[1] - 1), item_rows)

    def fold_in_from(self, start: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        """The same, by its distance from a vector that is known of them, float64 (rank,): zeros where nothing is."""
        penalty = max(2 * self.regularisation * len(item_rows), 1e-3)
        return fold_by_draws(self.item_factors_, start, item_rows, self._random(), penalty)

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The factor and bias of an item of these users: float32 (rank + 1,)."""
        train, random = self.trained_on, self._random()
        X, n_items = self.user_factors_, len(train.items)
        mine = np.repeat(user_rows, DRAWN)
        against = random.integers(0, n_items, len(mine))
        # for users drawn from the rest, what they have should stand above the new item
        cells = random.integers(0, train.n_cells, len(mine))
        others, theirs = train.user_rows[cells], train.indices[cells]
        kept = ~np.isin(others, user_rows)
        others, theirs = others[kept], theirs[kept]
        users, items = np.concatenate([mine, others]), np.concatenate([against, theirs])
        signs = np.concatenate([np.ones(len(mine)), -np.ones(len(others))])
        offsets = -np.einsum("ij,ij->i", X[users], self.item_factors_[items]).astype(np.float64)
        weights = np.full(len(users), 1 / DRAWN)
        return logistic_fit(X[users], offsets, signs, weights, self._penalty(len(user_rows), X.shape[1])).astype(
            np.float32
        )


@dataclass(repr=False)
class RefreshedFactors(RankedFactors, Refreshable):
    """The same where steps are on the factors themselves, so that those of an older model can be gone on from."""

    def refresh(self, train: InteractionMatrix, old: Model, watch: Watch) -> None:
        """A fifth of the epochs from the factors of an older model; those of new users and items start at random."""
        assert isinstance(old, RankedFactors)
        self.require_fit(train)
        self.require_same_rank(old, train)
        self.train_ = train
        self.user_factors_, self.item_factors_ = self.initial_factors(train)
        carry_over(self.user_factors_, train.users, old.user_factors_, old.trained_on.users)
        carry_over(self.item_factors_, train.items, old.item_factors_, old.trained_on.items)
        self.run_epochs(train, max(2, self.iterations // REFRESH_SHARE), watch)
