"""Explanations of single scores by ids: of trained users, and of users who are folded in."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.explain.explanation import Explanation
from gleaner.core.models.base.capabilities import Terms, factors_of, require_folding, terms_of, terms_of_history
from gleaner.core.ranking.directions import likeness_to

if TYPE_CHECKING:
    from gleaner.core.fitted import Fitted

NEAREST = 10
"""History items shown if a score is not a sum."""


def explained(fitted: Fitted, user: str, user_row: int, item: str, item_row: int) -> Explanation:
    """Explain the score of an item for a user that the model was trained on."""
    score = float(fitted.model.scores(np.array([user_row], dtype=np.int32))[0, item_row])
    terms = terms_of(fitted.model, user_row, item_row)
    if terms is None:
        return _nearest(fitted, user, item, fitted.train.history(user_row)[0], item_row, score)
    return _sum(fitted, user, item, score, terms)


def explained_history(
    fitted: Fitted,
    user: str,
    item: str,
    item_row: int,
    representation: np.ndarray,
    history: tuple[np.ndarray, np.ndarray],
) -> Explanation:
    """Explain the score of an item for a folded-in user. history: item rows and values that were folded in."""
    factors = factors_of(fitted.model)
    if factors is not None:
        score = float(factors.items[item_row] @ representation)
    else:
        score = float(require_folding(fitted.model).scores_of(representation)[item_row])
    terms = terms_of_history(fitted.model, *history, item_row)
    if terms is None:
        return _nearest(fitted, user, item, history[0], item_row, score)
    return _sum(fitted, user, item, score, terms)


def _sum(fitted: Fitted, user: str, item: str, score: float, terms: Terms) -> Explanation:
    order = np.argsort(-np.abs(terms.columns["adds"]), kind="stable")
    frame = _terms_frame(fitted.train.items, fitted.train.users, terms, order)
    return Explanation(user, item, "sum", score, terms.start, terms.result, terms.formula, terms.side, frame)


def _terms_frame(items: IdMap, users: IdMap, terms: Terms, order: np.ndarray) -> pl.DataFrame:
    columns = {name: part[order] for name, part in terms.columns.items()}
    if terms.names is not None:
        called = [terms.names[row] for row in terms.rows[order]]
    else:
        called = (items if terms.side == "item" else users).take(terms.rows[order])
    return pl.DataFrame({terms.side: pl.Series(called, dtype=pl.String)} | columns)


def _nearest(fitted: Fitted, user: str, item: str, items: np.ndarray, item_row: int, score: float) -> Explanation:
    items = items[items != item_row]
    likeness, by = likeness_to(fitted.model, fitted.train, "item", item_row)
    order = np.argsort(-likeness[items], kind="stable")[:NEAREST]
    terms = Terms("item", items, {"likeness": likeness[items].astype(np.float64)}, by)
    formula = f"not a sum of the history: the items of the history nearest to this one, by {by}"
    frame = _terms_frame(fitted.train.items, fitted.train.users, terms, order)
    return Explanation(user, item, "nearest", score, 0.0, None, formula, "item", frame)
