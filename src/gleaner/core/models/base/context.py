"""What a request says of the context it comes from, as a model reads it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import polars as pl

from gleaner.core.errors import InputError, ParameterError
from gleaner.core.models.base.capabilities import TakesContext
from gleaner.core.models.base.protocol import Model


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
