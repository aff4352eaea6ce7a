"""What models say of pairs of a user and an item: values, chances, and how both averages agree."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import ParameterError
from gleaner.core.models.base.capabilities import (
    FELL_BACK,
    NO_NEIGHBOUR,
    OK,
    REASONS,
    UNKNOWN_BOTH,
    UNKNOWN_ITEM,
    UNKNOWN_USER,
    HasLogOdds,
    SideName,
    having_log_odds,
)
from gleaner.core.models.base.context import context_frame
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.values import ValueModel
from gleaner.core.new_rows import with_rows_of

Names = str | Sequence[str]
Given = Mapping[str, Any] | Sequence[Mapping[str, Any]] | None
SideRows = Mapping[SideName, pl.DataFrame]
"""Rows of the tables by which whom and what training never saw is known."""


def value_table(
    model: ValueModel, train: InteractionMatrix, users: Names, items: Names, context: Given, tables: SideRows
) -> pl.DataFrame:
    """Predicted values of pairs: columns user, item, value, answerable, reason, fell_back_on."""
    users, items = paired(users, items)
    frame = context_frame(model, context, len(users))
    new = with_rows_of(model, train, {"users": users, "items": items}, tables)
    assert isinstance(new.model, ValueModel)
    rated = new.model.rate(new.of("users", train.users, users), new.of("items", train.items, items), frame)
    fell_back = np.where(rated.reason == NO_NEIGHBOUR, 4, np.where(rated.reason == UNKNOWN_BOTH, 3, rated.reason))
    return pl.DataFrame(
        {
            "user": pl.Series(users, dtype=pl.String),
            "item": pl.Series(items, dtype=pl.String),
            "value": rated.values.astype(np.float64),
            "answerable": rated.reason == OK,
            "reason": [REASONS[code] or None for code in rated.reason],
            "fell_back_on": [FELL_BACK[code] or None for code in fell_back],
        },
        schema_overrides={"reason": pl.String, "fell_back_on": pl.String},
    )


def chance_table(
    model: Model,
    chances: tuple[HasLogOdds, Calibration],
    train: InteractionMatrix,
    users: Names,
    items: Names,
    context: Given,
    tables: SideRows,
) -> pl.DataFrame:
    """Chances of pairs: columns user, item, likelihood, answerable, reason. A chance is null where nothing is known of
    the user or the item. chances: the model as one that has log-odds, and its calibration."""
    users, items = paired(users, items)
    frame = context_frame(model, context, len(users))
    new = with_rows_of(model, train, {"users": users, "items": items}, tables)
    user_rows, item_rows = new.of("users", train.users, users), new.of("items", train.items, items)
    known = (user_rows >= 0) & (item_rows >= 0)
    reason = np.where(known, OK, np.where(item_rows >= 0, UNKNOWN_USER, UNKNOWN_ITEM))
    reason[(user_rows < 0) & (item_rows < 0)] = UNKNOWN_BOTH
    able, calibration = having_log_odds(new.model) or chances[0], chances[1]
    likelihood = np.full(len(users), np.nan)
    there = None if frame is None else frame.filter(known)
    likelihood[known] = calibration.chance(able.log_odds(user_rows[known], item_rows[known], there))
    return pl.DataFrame(
        {
            "user": pl.Series(users, dtype=pl.String),
            "item": pl.Series(items, dtype=pl.String),
            "likelihood": pl.Series(likelihood).fill_nan(None),
            "answerable": known,
            "reason": [REASONS[code] or None for code in reason],
        },
        schema_overrides={"reason": pl.String},
    )


def average_table(model: ValueModel, train: InteractionMatrix, ties: np.ndarray, n: int) -> pl.DataFrame:
    """Mean observed and predicted value of the n items with the most: columns item, count, observed, predicted."""
    counts = np.bincount(train.indices, minlength=len(train.items))
    top = np.lexsort((ties, -counts))[:n]
    cells = np.flatnonzero(np.isin(train.indices, top))
    predicted = model.rate(train.user_rows[cells], train.indices[cells]).values.astype(np.float64)
    sums = [np.bincount(train.indices[cells], part, minlength=len(counts)) for part in (train.values[cells], predicted)]
    return pl.DataFrame(
        {"item": train.items.take(top), "count": counts[top]}
        | {name: part[top] / counts[top] for name, part in zip(("observed", "predicted"), sums, strict=True)}
    )


def paired(users: Names, items: Names) -> tuple[list[str], list[str]]:
    """Both as lists. Raises ParameterError where they do not make pairs."""
    of_users, of_items = ([part] if isinstance(part, str) else list(part) for part in (users, items))
    if len(of_users) != len(of_items):
        raise ParameterError(f"{len(of_users)} users and {len(of_items)} items do not make pairs", where="items")
    return of_users, of_items
