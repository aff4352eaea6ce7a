"""Models that look at the context of an interaction, and what a request says of it as they read it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import polars as pl

from gleaner.core.data.tables.context_encoder import TIME_PARTS, ContextEncoder
from gleaner.core.errors import InputError, ParameterError
from gleaner.core.models.base.capabilities import HasFactors

if TYPE_CHECKING:
    from gleaner.core.models.base.protocol import Model


class TakesContext(ABC):
    """Looks at what goes with an interaction, such as the device it came from."""

    context_columns: list[str] | None

    @property
    @abstractmethod
    def encoder(self) -> ContextEncoder:
        """How a fitted model reads them."""

    @abstractmethod
    def scores_in(self, user_rows: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """Scores of every item for some users, each in their row of the context: float32 (len(user_rows), n_items)."""

    @abstractmethod
    def scores_of_in(self, representation: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """Scores of every item for someone folded in, in a context of one row: float32 (n_items,)."""

    @staticmethod
    def context_of(there: Sequence[str], wanted: list[str] | None) -> list[str]:
        """The columns to look at: those named, or all that were kept with the interactions."""
        return [name for name in there if name not in TIME_PARTS] if wanted is None else wanted


class ContextFactors(TakesContext, HasFactors):
    """Has factors, of which those of users depend on the context."""

    @abstractmethod
    def in_context(self, users: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """User factors, float32 (n, width), each in their row of the context: their product with the item factors is
        the score there."""

    def scores_in(self, user_rows: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """Products of the user factors there."""
        factors = self.factors()
        assert factors is not None
        return self.in_context(factors.users[user_rows], context) @ factors.items.T

    def scores_of_in(self, representation: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """The same of one user factor."""
        factors = self.factors()
        assert factors is not None
        return factors.items @ self.in_context(representation[None], context)[0]


def takes_context(model: Model) -> TakesContext | None:
    """The fitted model as one that looks at the context; None where it looks at no column of it."""
    return model if isinstance(model, TakesContext) and model.encoder.names else None


def context_columns(model: Model) -> list[str]:
    """Columns of the interaction that a fitted model looks at."""
    return model.encoder.names if isinstance(model, TakesContext) else []


def context_frame(
    model: Model, given: Mapping[str, Any] | Sequence[Mapping[str, Any]] | None, n: int
) -> pl.DataFrame | None:
    """A row of the context for each of n pairs, from one for all of them or one for each; None where nothing is given.

    Raises InputError naming what the model does not look at, ParameterError where there are not n, DataError on a value
    that does not fit its column.
    """
    rows = [given] * n if isinstance(given, Mapping) else list(given or ())
    if not any(rows):
        return None
    if len(rows) != n:
        raise ParameterError(f"{len(rows)} contexts are given for {n} pairs", where="context")
    known = context_columns(model)
    for row in rows:
        for name in row:
            if name not in known:
                has = f"it looks at: {', '.join(known)}" if known else "it looks at none"
                text = f"{model.family} does not look at context {name!r}; {has}"
                raise InputError(text, where=f"context.{name}")
    assert isinstance(model, TakesContext)
    return model.encoder.frame_of(rows)
