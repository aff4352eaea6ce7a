"""How alike two items, or two users, are, worked so that a person can redo it: what goes in, each step, the result."""

from __future__ import annotations

from dataclasses import dataclass
from math import sqrt
from typing import Literal

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import InputError
from gleaner.core.kernels.neighbours import log_likelihood
from gleaner.core.models.base.capabilities import factors_of, item_likeness_of, user_likeness_of
from gleaner.core.models.base.likeness import ComparedRows, ComparesRows, Rule, of_matrix
from gleaner.core.models.base.protocol import Model
from gleaner.core.ranking.directions import Side, likeness_to


@dataclass(frozen=True)
class WorkedStep:
    """One step: what it is, its numbers written out, and what they come to."""

    what: str
    worked: str
    result: float


@dataclass(frozen=True, eq=False)
class WorkedLikeness:
    """A likeness and where it comes from. entries: one row for each number that both have: `entry`, its row or factor,
    int64; `one` and `other`; for values further columns of the formula. model_has: what the model itself goes by, 0
    for two that are not among the nearest it keeps."""

    by: str
    entries_of: Literal["user", "item", "factor"]
    entries: pl.DataFrame
    steps: list[WorkedStep]
    result: float
    model_has: float


def work_likeness(model: Model, train: InteractionMatrix, side: Side, one: int, other: int) -> WorkedLikeness:
    """The likeness of the row `one` to the row `other`: by the rule of a neighbourhood, as the cosine of factors, or,
    for a model that has no view of its own, of who has what. Raises InputError for a view of another sort."""
    all_alike, by = likeness_to(model, train, side, one)
    model_has = float(all_alike[other])
    across: Literal["user", "item"] = "user" if side == "item" else "item"
    if isinstance(model, ComparesRows) and (compared := model.compared_rows(side)) is not None:
        entries, steps = _by_rule(compared, one, other)
        return WorkedLikeness(compared.by, across, entries, steps, steps[-1].result, model_has)
    view = item_likeness_of(model, one) if side == "item" else user_likeness_of(model, one)
    factors = factors_of(model)
    vectors = None if factors is None else factors.item_tastes if side == "item" else factors.user_tastes
    if view is not None and vectors is not None and vectors.shape[1]:
        # whoever has both a view and factors sees the cosine of these
        entries, steps = _by_vectors(vectors[one], vectors[other])
        return WorkedLikeness(by, "factor", entries, steps, steps[-1].result, model_has)
    if view is None:
        ones = np.ones(train.n_cells, dtype=np.float32)
        cells = (*train.by_item[:2], ones) if side == "item" else of_matrix(train, ones)
        n_others = len(train.users) if side == "item" else len(train.items)
        entries, steps = _by_rule(ComparedRows(cells, n_others, Rule("cosine"), by), one, other)
        return WorkedLikeness(by, across, entries, steps, steps[-1].result, model_has)
    text = f"{model.family} compares by {by}, which is no rule over rows and no cosine of factors to redo by hand"
    raise InputError(text, where="model")


def _by_vectors(one: np.ndarray, other: np.ndarray) -> tuple[pl.DataFrame, list[WorkedStep]]:
    x, y = one.astype(np.float64), other.astype(np.float64)
    entries = pl.DataFrame({"entry": np.arange(1, len(x) + 1), "one": x, "other": y, "product": x * y})
    return entries, _cosine(x, y, x, y)


def _cosine(
    x: np.ndarray, y: np.ndarray, whole_x: np.ndarray, whole_y: np.ndarray, power: float = 0.5
) -> list[WorkedStep]:
    """The products of what both have over the lengths of all that each has."""
    top, left, right = float(x @ y), sqrt(float(whole_x @ whole_x)), sqrt(float(whole_y @ whole_y))
    size = left ** (2 * power) * right ** (2 - 2 * power)
    powers = "" if power == 0.5 else f", to the powers {2 * power:g} and {2 - 2 * power:g}"
    return [
        WorkedStep("sum of the products", f"of {len(x):,} that both have", top),
        WorkedStep("length of the one", f"root of the sum of {len(whole_x):,} squares", left),
        WorkedStep("length of the other", f"root of the sum of {len(whole_y):,} squares", right),
        WorkedStep("cosine", f"{top:.6g} / ({left:.6g} x {right:.6g}){powers}", top / size if size else 0.0),
    ]


def _by_rule(compared: ComparedRows, one: int, other: int) -> tuple[pl.DataFrame, list[WorkedStep]]:
    rule = compared.rule
    (own, x_all), (others, y_all) = compared.row(one), compared.row(other)
    both, at_x, at_y = np.intersect1d(own, others, assume_unique=True, return_indices=True)
    x, y = x_all[at_x], y_all[at_y]
    entries = pl.DataFrame({"entry": both.astype(np.int64), "one": x, "other": y})
    n = len(both)
    if n < rule.least:
        return entries, [WorkedStep("in common", f"{n}, fewer than the {rule.least} that count", 0.0)]
    if rule.compares_values:
        more, steps = _of_values(rule.similarity, x, y)
        entries = entries.with_columns(**more)
    elif rule.similarity == "cosine":
        entries = entries.with_columns(product=x * y)
        steps = _cosine(x, y, x_all, y_all, rule.asymmetry)
    else:
        steps = _of_counts(rule.similarity, n, len(own), len(others), compared.n_others)
    if rule.shrinkage:
        plain = steps[-1].result
        share = n / (n + rule.shrinkage)
        steps.append(WorkedStep("shrunk", f"{plain:.6g} x {n} / ({n} + {rule.shrinkage:g})", plain * share))
    return entries, steps


def _of_values(similarity: str, x: np.ndarray, y: np.ndarray) -> tuple[dict[str, pl.Series], list[WorkedStep]]:
    """Steps of a likeness of what both have a value of, and the columns that they add up."""
    if similarity in ("mean_squared_difference", "euclidean"):
        squares = (x - y) ** 2
        total = float(squares.sum())
        steps = [WorkedStep("sum of the squared differences", f"of {len(x):,} that both have", total)]
        if similarity == "euclidean":
            steps.append(WorkedStep("distance", f"root of {total:.6g}", sqrt(total)))
        else:
            steps.append(WorkedStep("mean", f"{total:.6g} / {len(x)}", total / len(x)))
        apart = steps[-1].result
        steps.append(WorkedStep("likeness", f"1 / (1 + {apart:.6g})", 1 / (1 + apart)))
        return {"squared_difference": pl.Series(squares)}, steps
    if similarity != "pearson":
        return {"product": pl.Series(x * y)}, _of_directions(x, y)
    mean_x, mean_y = float(x.mean()), float(y.mean())
    dx, dy = x - mean_x, y - mean_y
    means = [
        WorkedStep("mean of the one", f"over {len(x):,} that both have", mean_x),
        WorkedStep("mean of the other", f"over {len(x):,} that both have", mean_y),
    ]
    columns = {"one_less_mean": pl.Series(dx), "other_less_mean": pl.Series(dy), "product": pl.Series(dx * dy)}
    return columns, means + _of_directions(dx, dy)


def _of_directions(x: np.ndarray, y: np.ndarray) -> list[WorkedStep]:
    """The cosine of two vectors over what both have; nothing where one is level, and rounding is all it has."""
    steps = _cosine(x, y, x, y)
    level = min(float(x @ x), float(y @ y)) <= 1e-9 * max(float(x @ x), float(y @ y), 1e-12)
    return [*steps[:-1], WorkedStep("one of them has the same everywhere", "no direction", 0.0)] if level else steps


def _of_counts(similarity: str, both: int, one: int, other: int, n: int) -> list[WorkedStep]:
    counted = [
        WorkedStep("have both", "counted", both),
        WorkedStep("have the one", "counted", one),
        WorkedStep("have the other", "counted", other),
    ]
    if similarity == "jaccard":
        return [*counted, WorkedStep("share", f"{both} / ({one} + {other} - {both})", both / (one + other - both))]
    if similarity == "confidence":
        return [*counted, WorkedStep("confidence", f"{both} / {other}", both / other)]
    everyone = [*counted, WorkedStep("all there are", "counted", n)]
    if similarity == "lift":
        return [*everyone, WorkedStep("lift", f"{both} x {n} / ({one} x {other})", both * n / (one * other))]
    if similarity == "support":
        return [*everyone, WorkedStep("support", f"{both} / {n}", both / n)]
    alike = float(log_likelihood(both, one, other, n))
    g2 = 1 / (1 - alike) - 1
    return [
        *everyone,
        WorkedStep("G2 of the four counts", "Dunning's statistic; 0 where they meet no more often than by chance", g2),
        WorkedStep("likeness", f"1 - 1 / (1 + {g2:.6g})", alike),
    ]
