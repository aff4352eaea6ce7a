"""How near predicted values come to held-out ones: RMSE, MAE, R2, and predicted against actual by bin."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl

from gleaner.core.errors import DataError
from gleaner.core.metrics.statistics import LEVEL, Interval, bootstrap_means
from gleaner.core.models.base.values import ValueModel
from gleaner.core.models.base.watching import HeldOutCells

MOST_BINS = 10
EDGES = [(1 - LEVEL) / 2, (1 + LEVEL) / 2]


@dataclass(frozen=True, eq=False)
class Predictions:
    """Held-out values beside predicted ones. users: rows of training, ascending; actual, predicted float64 (n,);
    answerable bool (n,), False where the model fell back."""

    users: np.ndarray
    actual: np.ndarray
    predicted: np.ndarray
    answerable: np.ndarray

    def errors(self) -> dict[str, float]:
        """RMSE, MAE and R2 over all pairs together; R2 is NaN where all actual values are equal."""
        error = self.predicted - self.actual
        sums = len(error), error @ error, np.abs(error).sum(), self.actual.sum(), self.actual @ self.actual
        return {name: float(figure[0]) for name, figure in _of_sums(np.array([sums], dtype=np.float64)).items()}


def predictions(model: ValueModel, held_out: HeldOutCells) -> Predictions:
    """Predict every held-out value whose user and item training knows. Raises DataError when there is none."""
    if not len(held_out.users):
        raise DataError("no held-out value belongs to a user and an item that training knows", where="split")
    order = np.argsort(held_out.users, kind="stable")
    users, items = held_out.users[order], held_out.items[order]
    context = None if held_out.context is None else held_out.context[order]
    rated = model.rate(users, items, context)
    assert held_out.values is not None
    return Predictions(
        users, held_out.values[order].astype(np.float64), rated.values.astype(np.float64), rated.answerable
    )


def per_user_errors(predictions: Predictions) -> pl.DataFrame:
    """One row per user: `row`, rmse and mae over the user's own values, and the lists actual and predicted."""
    error = predictions.predicted - predictions.actual
    table = pl.DataFrame(
        {
            "row": predictions.users,
            "squared": error**2,
            "absolute": np.abs(error),
            "actual": predictions.actual.astype(np.float32),
            "predicted": predictions.predicted.astype(np.float32),
        }
    )
    return table.group_by("row", maintain_order=True).agg(
        pl.col("squared").mean().sqrt().alias("rmse"),
        pl.col("absolute").mean().alias("mae"),
        "actual",
        "predicted",
    )


def value_intervals(actual: pl.Series, predicted: pl.Series, seed: int) -> dict[str, Interval]:
    """RMSE, MAE and R2 over all pairs together, with intervals by resampling users.

    actual, predicted: one list per user. R2 = 1 - sum of squared errors / sum of squared distances of the actual values
    from their mean; it is left out where all actual values are equal.
    """
    rows = pl.DataFrame({"actual": actual, "predicted": predicted}).with_row_index("row").explode("actual", "predicted")
    true, error = pl.col("actual").cast(pl.Float64), pl.col("predicted").cast(pl.Float64) - pl.col("actual")
    sums = rows.group_by("row", maintain_order=True).agg(
        pl.len().cast(pl.Float64), (error**2).sum().alias("sse"), error.abs().sum().alias("sae"),
        true.sum().alias("sum"), (true**2).sum().alias("sumsq"),
    )  # fmt: skip
    table = sums.drop("row").to_numpy()
    whole, drawn = _of_sums(table.mean(axis=0)[None]), _of_sums(bootstrap_means(table, seed))
    by_name = {}
    for name, mean in whole.items():
        if np.isfinite(mean[0]):
            low, high = np.nanquantile(drawn[name], EDGES)
            by_name[name] = Interval(float(mean[0]), float(low), float(high))
    return by_name


def _of_sums(sums: np.ndarray) -> dict[str, np.ndarray]:
    """The three metrics from mean counts, squared and absolute errors, values and squared values of a user."""
    n, sse, sae, total, squares = sums.T
    spread = squares - total**2 / n
    with np.errstate(invalid="ignore", divide="ignore"):
        r2 = np.where(spread > 1e-12, 1 - sse / spread, np.nan)
    return {"rmse": np.sqrt(sse / n), "mae": sae / n, "r2": r2}


def even_starts(values: np.ndarray) -> np.ndarray:
    """Where bins of values begin: each different value where there are few, else ten steps from lowest to highest."""
    different = np.unique(values)
    if len(different) <= MOST_BINS:
        return different
    return np.linspace(different[0], different[-1], MOST_BINS + 1)[:-1]


def quarter_starts(values: np.ndarray) -> np.ndarray:
    """Where each quarter of the values begins, lowest first."""
    return np.unique(np.quantile(values, [0, 0.25, 0.5, 0.75], method="higher"))


def by_bins(values: np.ndarray, starts: np.ndarray, actual: np.ndarray, predicted: np.ndarray) -> pl.DataFrame:
    """Pairs by bins of `values`: at (where the bin begins), n, the means of actual and predicted, rmse."""
    at = np.clip(np.searchsorted(starts, values, side="right") - 1, 0, len(starts) - 1)
    table = pl.DataFrame({"at": starts[at], "actual": actual, "predicted": predicted})
    squared = (pl.col("predicted") - pl.col("actual")) ** 2
    means = pl.col("actual").mean(), pl.col("predicted").mean(), squared.mean().sqrt().alias("rmse")
    return table.group_by("at").agg(pl.len().alias("n"), *means).sort("at")
