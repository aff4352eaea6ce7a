"""What ranking networks learn by: whether an item is taken, or what value it is given."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import require_range
from gleaner.core.models.base.capabilities import HasLogOdds, SideName
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model
from gleaner.core.models.base.values import Biases, ValueModel, value_layout
from gleaner.core.models.base.watching import HeldOutCells, Watch
from gleaner.core.models.neural.machinery.network_model import Draws
from gleaner.core.models.neural.pairs.pair_network import PairNetwork


@dataclass(repr=False)
class TakenPairs(PairNetwork, HasLogOdds):
    """The loss of a cell is log(1 + exp(-score)), and log(1 + exp(score)) of each of `negatives` items that the user
    does not have, drawn evenly, in the context of the cell: so the score is the log-odds against such a draw."""

    feedback: ClassVar = "implicit"

    negatives: int = parameter(4, "items drawn against each cell")

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("negatives", self.negatives, 1, 1000, whole=True)

    def amounts_of(self, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Each item counts alike."""
        return np.ones(len(items), np.float32)

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Cells as numbers too, to see which draws a user has."""
        super().prepare(train, features)
        # cells are in the order of users and their items, so these numbers rise
        self._cells = train.user_rows.astype(np.int64) * len(train.items) + train.indices

    def end(self) -> None:
        """Let go of them."""
        super().end()
        del self._cells

    def loss(self, weights: dict[str, Any], units: np.ndarray, draws: Draws) -> Any:
        """Of some cells, each with items drawn against it."""
        import torch

        train, n_items = self.trained_on, len(self.trained_on.items)
        drawn = self.draw_items(draws.random, len(units), self.negatives)
        wanted = train.user_rows[units].astype(np.int64)[:, None] * n_items + drawn
        at = np.minimum(np.searchsorted(self._cells, wanted), len(self._cells) - 1)
        lacks = torch.from_numpy((self._cells[at] != wanted).astype(np.float32))
        items = np.column_stack([train.indices[units], drawn])
        scores, squares = self.told_in(torch, weights, units, items)
        softplus = torch.nn.functional.softplus
        taken, others = softplus(-scores[:, 0]).sum(), (softplus(scores[:, 1:]) * lacks).sum()
        return (taken + others) / (len(units) + lacks.sum()) + self.regularisation * squares

    def log_odds(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
        """The scores, each pair in its row of the context."""
        return self.paired(users, items, context if self.encoder_.names else None).astype(np.float64)

    def held_out_loss(self, held_out: HeldOutCells) -> float | None:
        """The mean loss of the cells, each with one seeded draw, the same for every iteration."""
        random = np.random.Generator(np.random.PCG64([self.seed, 77]))
        drawn = random.integers(0, len(self.trained_on.items), len(held_out.users))
        kept = drawn != held_out.items
        scores = (
            self.log_odds(held_out.users[kept], rows[kept], _only(held_out.context, kept))
            for rows in (held_out.items, drawn)
        )
        return float(np.mean([np.logaddexp(0, -next(scores)), np.logaddexp(0, next(scores))]))


@dataclass(repr=False)
class ValuedPairs(PairNetwork, ValueModel):
    """The loss of a cell is (value - score)^2, the score beginning at the mean of all. An item of a history counts by
    how far its value is above the mean."""

    feedback: ClassVar = "explicit"

    def amounts_of(self, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """By how much values are above the mean and the bias of the item."""
        return np.asarray(values - self.biases_.mean - self.biases_.item[items], np.float32)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """With biases to begin from, and to fall back on."""
        self.learn_biases(train)
        self.base_ = self.biases_.mean
        super().learn(train, features, watch)

    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """The weights of ids are biases."""
        weights = super().initial_weights(random)
        weights["user_ids"][:, -1], weights["item_ids"][:, -1] = self.biases_.user, self.biases_.item
        return weights

    def loss(self, weights: dict[str, Any], units: np.ndarray, draws: Draws) -> Any:
        """Of some cells."""
        import torch

        train = self.trained_on
        scores, squares = self.told_in(torch, weights, units, train.indices[units][:, None])
        values = torch.from_numpy(train.values[units] - np.float32(self.base_))
        return ((scores[:, 0] - values) ** 2).mean() + self.regularisation * squares

    def predict(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The scores of pairs, of the context nothing known."""
        return self.paired(users, items, None)

    def predict_in(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        """The same, each pair in its row of the context."""
        return self.paired(users, items, context)

    def held_out_loss(self, held_out: HeldOutCells) -> float | None:
        """The mean squared error."""
        if held_out.values is None:
            return None
        miss = held_out.values - self.predict_in(held_out.users, held_out.items, held_out.context).astype(np.float64)
        return float(np.mean(miss**2))

    def with_rows(self, side: SideName, train: InteractionMatrix, rows: pl.DataFrame) -> Model:
        """With no bias to fall back on."""
        extended = super().with_rows(side, train, rows)
        assert isinstance(extended, ValuedPairs)
        extended.biases_ = self.biases_.longer(side, rows.height)
        return extended

    def state(self) -> Arrays:
        """With biases and the scale."""
        return super().state() | self.biases_.arrays() | {"scale": np.array(self.scale_, dtype=np.float64)}

    def layout(self, train: InteractionMatrix) -> Layout:
        """The same."""
        return {**super().layout(train), **value_layout(train)}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Any:
        """Load them too."""
        self.biases_ = Biases.from_arrays(arrays)
        self.scale_ = (float(arrays["scale"][0]), float(arrays["scale"][1]))
        return super().load_state(arrays, train)


def _only(context: pl.DataFrame | None, kept: np.ndarray) -> pl.DataFrame | None:
    return None if context is None else context.filter(kept)
