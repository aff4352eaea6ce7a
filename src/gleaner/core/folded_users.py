"""A fitted model with more users behind those of training, each folded in from a history."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Self

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import Factors, HasFactors, factors_of, require_folding
from gleaner.core.models.base.protocol import Arrays, Feedback, Model
from gleaner.core.models.base.watching import Watch

NOT_KEPT = "a model with folded-in users is made for one export, and is neither fitted nor stored"


@dataclass(frozen=True, eq=False)
class FoldedUser:
    """A user that training did not know, as the model folded them in; without a representation for a model that ranks
    the same for everyone."""

    user: str
    representation: np.ndarray | None


class WithFoldedUsers(Model, HasFactors):
    """The scores of the base model, and behind them those of users who were folded in."""

    def __init__(self, base: Model, train: InteractionMatrix, folded: Sequence[FoldedUser]) -> None:
        """train: the training matrix of the base, with an empty row for each folded-in user."""
        self.base, self.train_, self.folded = base, train, list(folded)
        self.n_trained = len(train.users) - len(self.folded)

    @property
    def family(self) -> str:  # type: ignore[override]  # a class fact elsewhere, here that of the base
        """Return the family of the base."""
        return self.base.family

    @property
    def feedback(self) -> Feedback:  # type: ignore[override]
        """Return the feedback that the base takes."""
        return self.base.feedback

    @property
    def personal(self) -> bool:  # type: ignore[override]
        """Return whether the base ranks differently for each user."""
        return self.base.personal

    def factors(self) -> Factors | None:
        """Return the factors of the base with rows for the folded-in users, or None if it has none."""
        return self._factors

    @cached_property
    def _factors(self) -> Factors | None:
        factors = factors_of(self.base)
        if factors is None:
            return None
        more = [factors.users[0] if each.representation is None else each.representation for each in self.folded]
        return Factors(np.vstack([factors.users, *more]).astype(np.float32), factors.items, factors.biases)

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Return scores of every item: float32 (n, n_items)."""
        user_rows = np.asarray(user_rows)
        is_trained = user_rows < self.n_trained
        scores = np.empty((len(user_rows), len(self.trained_on.items)), dtype=np.float32)
        scores[is_trained] = self.base.scores(user_rows[is_trained].astype(np.int32))
        for index in np.flatnonzero(~is_trained):
            scores[index] = self._folded_scores(int(user_rows[index]) - self.n_trained)
        return scores

    def _folded_scores(self, index: int) -> np.ndarray:
        representation = self.folded[index].representation
        if representation is None:
            return self.base.scores(np.zeros(1, np.int32))[0]
        factors = factors_of(self.base)
        return (
            require_folding(self.base).scores_of(representation) if factors is None else factors.items @ representation
        )

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Raise InputError."""
        raise InputError(NOT_KEPT)

    def state(self) -> Arrays:
        """Raise InputError."""
        raise InputError(NOT_KEPT)

    def layout(self, train: InteractionMatrix) -> Layout:
        """Return the layout of no arrays."""
        return {}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Raise InputError."""
        raise InputError(NOT_KEPT)


def with_folded_users(fitted: Fitted, folded: Sequence[FoldedUser]) -> Fitted:
    """Return a fitted model that also knows these users; the same one if there are none."""
    if not folded:
        return fitted
    train = fitted.train
    users = IdMap([*train.users.ids.to_pylist(), *(each.user for each in folded)])
    indptr = np.concatenate([train.indptr, np.full(len(folded), train.indptr[-1])])
    extended = replace(train, indptr=indptr, users=users)
    return replace(fitted, model=WithFoldedUsers(fitted.model, extended, folded), train=extended)


def with_known_cells(train: InteractionMatrix, user_rows: np.ndarray, item_rows: np.ndarray) -> InteractionMatrix:
    """Return the pattern of a training matrix with more cells, which may be in it already. Every value is 1."""
    if not len(user_rows):
        return train
    own = sparse.csr_array((np.ones(train.n_cells, np.float32), train.indices, train.indptr), shape=train.shape)
    ones = np.ones(len(user_rows), np.float32)
    both = sparse.csr_array(own + sparse.csr_array((ones, (user_rows, item_rows)), shape=train.shape))
    both.sort_indices()
    values = np.ones(both.nnz, dtype=np.float32)
    return InteractionMatrix(
        both.indptr.astype(np.int64), both.indices.astype(np.int32), values, train.users, train.items
    )
