"""What factor models share whose factors are sums over features, fitted by gradient steps."""

from __future__ import annotations

from abc import abstractmethod
from copy import copy
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.column_encoding import ColumnEncoding
from gleaner.core.data.tables.row_features import (
    Column,
    Features,
    chosen,
    encoded_again,
    encodings_from_json,
    encodings_to_json,
    require_columns,
)
from gleaner.core.errors import DataError, ParameterError, require_range
from gleaner.core.models.base.blocks import Task
from gleaner.core.models.base.capabilities import HasLogOdds, KnowsColumns, SideName, TakesFeatures
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import pair_products, require_rank
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned, no_array
from gleaner.core.models.base.ranked_factors import RankedFactors
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.machines.stepping import Machine, SideColumns

RANKING_LOSSES = ("bpr", "warp", "logistic")


@dataclass(repr=False)
class SteppedFactors(RankedFactors, TakesFeatures, KnowsColumns, HasLogOdds):
    """score(u, i) = x_u . y_i + b_i, each a sum over the features of the row, fitted by `loss`: bpr, warp or logistic
    as those families, over the same draws, with Adagrad's step sizes (Duchi, Hazan, Singer 2011).

    Each column has length one, and all columns of a row together `feature_weight`; the row's own vector has 1. Columns
    left out of `item_columns` and `user_columns` are not looked at, null looks at all. Own vectors step cell by cell;
    those of columns, which many rows share, step together up to 128 times an epoch.
    """

    regularisation: float = parameter(0.02, "lambda of the objective")
    learning_rate: float = parameter(0.1, "of the first epoch")
    decay: float = parameter(0.0, "the rate of epoch t is learning_rate / (1 + decay (t - 1))")
    iterations: int = parameter(30, "passes over the data")
    loss: Literal["bpr", "warp", "logistic"] = parameter("logistic", "`bpr`, `warp` or `logistic`")
    item_columns: list[str] | None = parameter(
        None, "columns of the item table to look at; none given: every one that says something"
    )
    user_columns: list[str] | None = parameter(
        None, "columns of the user table to look at; none given: every one that says something"
    )
    feature_weight: float = parameter(1.0, "length of all columns of a row together, against 1 of its own vector")
    margin: float = parameter(1.0, "by how much what a user has should lead")
    trials: int = parameter(20, "draws at most")
    negatives: int = parameter(3, "draws a cell")
    columns_: dict[SideName, list[ColumnEncoding]] = learned(lambda: {"users": [], "items": []})
    user_columns_: np.ndarray = learned(no_array)
    item_columns_: np.ndarray = learned(no_array)

    def __post_init__(self) -> None:
        super().__post_init__()
        self.require_loss()
        require_columns("item_columns", self.item_columns)
        require_columns("user_columns", self.user_columns)
        require_range("feature_weight", self.feature_weight, 0, 100)
        require_range("margin", self.margin, 0, 100)
        require_range("trials", self.trials, 1, 1000, whole=True)
        require_range("negatives", self.negatives, 1, 1000, whole=True)

    def require_loss(self) -> None:
        """Raise ParameterError for a loss that there is not."""
        if self.loss not in RANKING_LOSSES:
            raise ParameterError(f"loss must be one of {', '.join(RANKING_LOSSES)}, not {self.loss!r}", where="loss")

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Three vectors read and written for each cell and each draw, and gathered for the columns."""
        draws = {"bpr": 2, "warp": 4, "logistic": 1 + params["negatives"]}[params["loss"]]
        work = params["iterations"] * cells * draws * 8.0 * (params["rank"] + 25)
        return Cost(work, 24.0 * params["rank"] * sum(shape))

    @property
    def draws(self) -> int:
        """Items drawn for a cell at most."""
        return {"bpr": 1, "warp": self.trials, "logistic": self.negatives}[self.loss]

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Lay out both sides' features, then epochs."""
        require_rank(self.rank, train)
        self.start(train, features)
        self.run_epochs(train, self.iterations, watch)
        self.end()

    def start(self, train: InteractionMatrix, features: Features | None) -> Machine:
        """Everything as it is before the first step; answers what steps."""
        self.train_ = train
        given = features or Features()
        users = chosen(given.users, self.user_columns, "user_columns")
        items = chosen(given.items, self.item_columns, "item_columns")
        sides = (
            SideColumns.of(users, train.shape[0], self.feature_weight),
            SideColumns.of(items, train.shape[1], self.feature_weight),
        )
        self.columns_ = {"users": _kept(users, self.feature_weight), "items": _kept(items, self.feature_weight)}
        self._machine = self.machine(train, sides)
        self._sides = sides
        self.update_factors()
        return self._machine

    def end(self) -> None:
        """Let go of what only steps need."""
        del self._machine, self._sides

    @abstractmethod
    def machine(self, train: InteractionMatrix, sides: tuple[SideColumns, SideColumns]) -> Machine:
        """What is to be fitted, as it starts."""

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of both tables."""
        return {
            "item_columns": [each.name for each in chosen(features.items, self.item_columns, "item_columns")],
            "user_columns": [each.name for each in chosen(features.users, self.user_columns, "user_columns")],
        }

    def column_names(self, side: SideName) -> list[str]:
        """Those of one table."""
        return [each.column for each in self.columns_[side]]

    def side_of(self, side: SideName, rows: pl.DataFrame) -> SideColumns:
        """Rows of a table as features, as training encoded them."""
        return SideColumns.of(encoded_again(self.columns_[side], rows), rows.height, self.feature_weight)

    def fold_in_row(self, row: pl.DataFrame, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """From what their columns say, by what they touched."""
        return self.fold_in_from(self.factors_of_rows("users", row)[0, :-1].astype(np.float64), item_rows)

    def with_rows(self, side: SideName, train: InteractionMatrix, rows: pl.DataFrame) -> Model:
        """With their factors behind the others."""
        extended = copy(self)
        extended.train_ = train
        extended.add_rows(side, rows)
        return extended

    def add_rows(self, side: SideName, rows: pl.DataFrame) -> None:
        """Put the factors of rows behind those there are."""
        factors = self.factors_of_rows(side, rows)
        if side == "users":
            self.user_factors_ = np.concatenate([self.user_factors_, factors])
        else:
            self.item_factors_ = np.concatenate([self.item_factors_, factors])

    def pair_loss(self, having: np.ndarray, other: np.ndarray) -> np.ndarray:
        """That of the family the loss is named for."""
        if self.loss == "warp":
            return np.maximum(0, self.margin - having + other)
        if self.loss == "logistic":
            return np.logaddexp(0, -having) + np.logaddexp(0, other)
        return np.logaddexp(0, other - having)

    @property
    def has_log_odds(self) -> bool:
        """By the logistic loss."""
        return self.loss == "logistic"

    def log_odds(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
        """x_u . y_i + b_i."""
        return pair_products(self.user_factors_, self.item_factors_, users, items)

    def epoch(self, train: InteractionMatrix, X: np.ndarray, Y: np.ndarray, rate: np.float32, seed: np.uint64) -> Task:
        """Steps on the vectors of features; X and Y are summed afterwards."""
        self._rate = rate
        return self._machine.task(rate, seed)

    def stretches(self, train: InteractionMatrix) -> int:
        """As many as the machine says."""
        return self._machine.stretches

    def end_stretch(self) -> None:
        """Columns move."""
        self._machine.move_columns(self._rate)

    def forget_untouched(self, train: InteractionMatrix) -> None:
        """A user or item without a cell is what its columns say."""
        tables = self._machine.tables
        tables.users[np.diff(train.indptr) == 0] = 0
        tables.items[train.item_counts == 0] = 0
        self.update_factors()

    def keep_columns(self) -> None:
        """The vectors of columns as they stand."""
        tables = self._machine.tables
        self.user_columns_, self.item_columns_ = tables.user_columns.copy(), tables.item_columns.copy()

    def column_state(self) -> Arrays:
        """A vector and weight of every feature of both tables, and how cells become features."""
        return {
            "user_columns": self.user_columns_,
            "item_columns": self.item_columns_,
            "encodings": np.frombuffer(encodings_to_json(self.columns_), np.uint8),
        }

    @staticmethod
    def column_layout() -> Layout:
        """As many rows as the columns have features."""
        return {
            "user_columns": ArraySpec("float32", ("features of users", "width")),
            "item_columns": ArraySpec("float32", ("features of items", "width")),
            "encodings": ArraySpec("uint8", ("letters",)),
        }

    def brought_up(self, arrays: Arrays) -> Arrays:
        """Of models from before their columns were kept, nothing is known but what trained rows come to."""
        if {"encodings", "user_columns", "item_columns"} & arrays.keys():
            return arrays
        widths = [arrays[name].shape[-1] for name in ("items", "item_factors") if name in arrays]
        none = np.zeros((0, *widths), np.float32)
        letters = np.frombuffer(encodings_to_json({"users": [], "items": []}), np.uint8)
        trained = {name: array for name, array in arrays.items() if not name.endswith("_embeddings")}
        return trained | {"user_columns": none, "item_columns": none, "encodings": letters}

    def load_columns(self, arrays: Arrays) -> None:
        """Load them. Raises DataError where encodings and vectors do not fit each other."""
        kept = encodings_from_json(arrays["encodings"].tobytes())
        self.columns_ = {"users": kept.get("users", []), "items": kept.get("items", [])}
        self.user_columns_, self.item_columns_ = arrays["user_columns"], arrays["item_columns"]
        vectors: dict[SideName, np.ndarray] = {"users": self.user_columns_, "items": self.item_columns_}
        for side, table in vectors.items():
            if len(table) != sum(len(each.names) for each in self.columns_[side]):
                text = f"{self.family}: the columns of {side} must have a vector for every feature"
                raise DataError(text, where="encodings")


def _kept(columns: list[Column], weight: float) -> list[ColumnEncoding]:
    """How those that count are encoded; with a weight of 0 none does."""
    return [each.encoding for each in columns] if weight else []
