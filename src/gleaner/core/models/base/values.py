"""What all models that predict values share: biases to fall back on, a scale to stay on, and honest answers."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.capabilities import (
    NO_NEIGHBOUR,
    OK,
    UNKNOWN_BOTH,
    UNKNOWN_ITEM,
    UNKNOWN_USER,
    PredictsValues,
    RatedPairs,
    SideName,
    knowing_columns,
)
from gleaner.core.models.base.protocol import Arrays, Model, learned


@dataclass(frozen=True, eq=False)
class Biases:
    """r_ui ~ mean + user_u + item_i, offsets damped towards 0: item_i = sum (r - mean) / (n_i + damping), then user_u =
    sum (r - mean - item_i) / (n_u + damping) (Koren 2008, section 2.1). float32 offsets."""

    mean: float
    user: np.ndarray
    item: np.ndarray

    @classmethod
    def learn(cls, train: InteractionMatrix, damping: float) -> Biases:
        """Two passes over the cells, in float64."""
        n_users, n_items = train.shape
        mean = float(train.values.mean(dtype=np.float64))
        left = train.values.astype(np.float64) - mean
        item = np.bincount(train.indices, left, n_items) / (np.bincount(train.indices, minlength=n_items) + damping)
        left -= item[train.indices]
        user = np.bincount(train.user_rows, left, n_users) / (np.diff(train.indptr) + damping)
        return cls(mean, user.astype(np.float32), item.astype(np.float32))

    def at(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """Predictions of pairs; a row of -1 adds nothing: float32 (n,)."""
        user = np.where(users >= 0, self.user[np.maximum(users, 0)], 0) if len(self.user) else 0
        item = np.where(items >= 0, self.item[np.maximum(items, 0)], 0) if len(self.item) else 0
        return np.asarray(self.mean + user + item, dtype=np.float32)

    def longer(self, side: SideName, n: int) -> Biases:
        """With so many users, or items, more, of whom no bias is known."""
        none = np.zeros(n, np.float32)
        if side == "users":
            return Biases(self.mean, np.concatenate([self.user, none]), self.item)
        return Biases(self.mean, self.user, np.concatenate([self.item, none]))

    def arrays(self) -> Arrays:
        """For a model's state."""
        return {"bias_mean": np.array([self.mean]), "bias_user": self.user, "bias_item": self.item}

    @classmethod
    def from_arrays(cls, arrays: Arrays) -> Biases:
        """Written by `arrays`."""
        return cls(float(arrays["bias_mean"][0]), arrays["bias_user"], arrays["bias_item"])


def value_layout(train: InteractionMatrix) -> Layout:
    """What a value model keeps beside its own arrays: biases, and the scale."""
    return {
        "bias_mean": ArraySpec("float64", (1,)),
        "bias_user": ArraySpec("float32", (len(train.users),)),
        "bias_item": ArraySpec("float32", (len(train.items),)),
        "scale": ArraySpec("float64", (2,), rising=True),
    }


NO_BIASES = Biases(0.0, np.empty(0, np.float32), np.empty(0, np.float32))
DAMPING = 5.0


@dataclass(repr=False)
class ValueModel(Model, PredictsValues):
    """Predicts the value a user would give: `predict` where it can, biases where it cannot."""

    feedback: ClassVar = "explicit"

    biases_: Biases = learned(lambda: NO_BIASES)
    scale_: tuple[float, float] = learned(lambda: (0.0, 0.0))
    train_: InteractionMatrix | None = learned(lambda: None)

    @abstractmethod
    def predict(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """Predictions of pairs of known users and items, NaN where there is nothing to go on: float32 (n,)."""

    def learn_biases(self, train: InteractionMatrix) -> None:
        """Biases and scale of the training part."""
        assert train.scale is not None
        self.train_, self.scale_, self.biases_ = train, train.scale, Biases.learn(train, DAMPING)

    def predict_in(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        """The same, each pair in its row of the context, for models that take it."""
        return self.predict(users, items)

    def rate(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> RatedPairs:
        """Predicted values of pairs of rows, -1 for whom or what training never saw, clipped to the scale. A row
        without a cell is as good as none, unless the model looks at its columns."""
        users, items = np.asarray(users, dtype=np.int32), np.asarray(items, dtype=np.int32)
        new_user, new_item = self._is_new("users", users), self._is_new("items", items)
        reason = np.zeros(len(users), dtype=np.int8)
        reason[new_user] = UNKNOWN_USER
        reason[new_item] = UNKNOWN_ITEM
        reason[new_user & new_item] = UNKNOWN_BOTH
        values = self.biases_.at(users, items)
        known = reason == OK
        predicted = self.predict_in(users[known], items[known], None if context is None else context.filter(known))
        reason[np.flatnonzero(known)[np.isnan(predicted)]] = NO_NEIGHBOUR
        values[reason == OK] = predicted[~np.isnan(predicted)]
        return RatedPairs(np.clip(values, *self.scale_), reason)

    def _is_new(self, side: SideName, rows: np.ndarray) -> np.ndarray:
        """Of whom or what nothing is known: bool (n,)."""
        train, there = self.trained_on, rows >= 0
        if knowing_columns(self, side) is not None:
            return ~there
        at = np.maximum(rows, 0)
        counts = train.indptr[at + 1] - train.indptr[at] if side == "users" else train.item_counts[at]
        return ~there | (counts == 0)
