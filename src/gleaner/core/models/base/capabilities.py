"""What a model can do beside fitting and scoring. A family adopts a capability by inheriting from it.

Whether a model can is asked here, never by the name of its family. What a class adopts, one of its models may still
lack: a blend folds in where one of its members does.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import InputError

if TYPE_CHECKING:
    from gleaner.core.models.base.protocol import Model
    from gleaner.core.models.base.watching import HeldOutCells, Watch

SideName = Literal["items", "users"]
"""Which of the two tables."""

OK, UNKNOWN_USER, UNKNOWN_ITEM, UNKNOWN_BOTH, NO_NEIGHBOUR = range(5)
REASONS = ("", "unknown user", "unknown item", "unknown user and item", "no neighbour in common")
FELL_BACK = ("", "the item's mean", "the user's mean", "the overall mean", "the user's and the item's mean")


@dataclass(frozen=True, eq=False)
class Terms:
    """A score as a sum a person can redo: start + sum of columns["adds"] = result, one place per row.

    side: whether rows are items of the history, users, or inputs, whose names are then given. formula: how `adds`
    comes from the other columns. columns: float64 (n,) each; "overlap" counts what two have in common.
    """

    side: Literal["item", "user", "input"]
    rows: np.ndarray
    columns: dict[str, np.ndarray]
    formula: str
    start: float = 0.0
    names: list[str] | None = None

    @property
    def result(self) -> float:
        """The sum."""
        return self.start + float(self.columns["adds"].sum())


@dataclass(frozen=True, eq=False)
class Factors:
    """Scores as one matrix product: users float32 (n_users, width) times items float32 (n_items, width) transposed.

    The last `biases` columns carry biases, not tastes: likeness and maps leave them out.
    """

    users: np.ndarray
    items: np.ndarray
    biases: int = 0

    @property
    def user_tastes(self) -> np.ndarray:
        """The user factors without bias columns."""
        return self.users[:, : self.users.shape[1] - self.biases]

    @property
    def item_tastes(self) -> np.ndarray:
        """The item factors without bias columns."""
        return self.items[:, : self.items.shape[1] - self.biases]


@dataclass(frozen=True, eq=False)
class RatedPairs:
    """Predicted values of pairs. values float32 (n,) on the scale; reason int8 (n,), an index of REASONS: 0 where the
    model could answer, else the value is what FELL_BACK says."""

    values: np.ndarray
    reason: np.ndarray

    @property
    def answerable(self) -> np.ndarray:
        """Where the model had something to go on: bool (n,)."""
        return self.reason == OK


@dataclass(frozen=True, eq=False)
class LikenessTable:
    """How alike every row is to one, so that a person can redo it.

    raw: float64 (n_rows,), by the formula, negative where they differ, 0 where it is not defined. likeness: float32,
    raw times n / (n + shrinkage). overlap: int64, n, how much both have.
    """

    raw: np.ndarray
    likeness: np.ndarray
    overlap: np.ndarray


class PredictsValues(ABC):
    """Says which value a user would give an item."""

    @abstractmethod
    def rate(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> RatedPairs:
        """Predicted values of pairs, rows int (n,), -1 for a user or item that training never saw. context: a row for
        each pair, for models that take it."""


class FoldsIn(ABC):
    """Serves someone it never saw, from their history."""

    reads_order: ClassVar[bool] = False
    """Whether the order of a history matters: then items go from the first that was taken to the last."""

    @property
    def can_fold_in(self) -> bool:
        """Whether this one can."""
        return True

    @abstractmethod
    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """A representation of someone not seen in training, from their items, for `scores_of`."""

    @abstractmethod
    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Scores of every item for a folded-in representation: float32 (n_items,)."""


class ScoresSome(ABC):
    """Looks at every item on its own, so that scores of a few cost less than those of all."""

    @abstractmethod
    def as_folded(self, user_row: int) -> np.ndarray:
        """A user of training as one who is folded in."""

    @abstractmethod
    def scores_among(
        self, representation: np.ndarray, item_rows: np.ndarray, context: pl.DataFrame | None
    ) -> np.ndarray:
        """Scores of some items for someone folded in, in a context of one row where one is given: float32 (n,)."""


class FoldsInItems(ABC):
    """Scores an item it never saw, from its users."""

    @abstractmethod
    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """A representation of an item not seen in training, from the users who touched it, for `scores_of_item`."""

    @abstractmethod
    def scores_of_item(self, representation: np.ndarray) -> np.ndarray:
        """Scores of a folded-in item for every user: float32 (n_users,)."""


class HasFactors(ABC):
    """Scores are a plain product, which ranking can use directly."""

    @abstractmethod
    def factors(self) -> Factors | None:
        """The factor form; None where this model lacks it."""


class Explains(ABC):
    """Says what a score is the sum of."""

    @abstractmethod
    def terms(self, user_row: int, item_row: int) -> Terms | None:
        """What a score is the sum of, exactly; None where it is not a sum."""

    def terms_in(self, user_row: int, item_row: int, context: pl.DataFrame | None) -> Terms | None:
        """The same in a context of one row, for models that look at it."""
        return self.terms(user_row, item_row)


class ExplainsHistory(ABC):
    """Explains the score of a folded-in user as a sum over their history."""

    @abstractmethod
    def terms_of_history(self, item_rows: np.ndarray, values: np.ndarray, item_row: int) -> Terms:
        """Return what the score of one item adds up to for a history: item rows and values, as for `fold_in`."""


class HasItemLikeness(ABC):
    """Has a view of which items are alike."""

    @abstractmethod
    def item_likeness(self, item_row: int) -> tuple[np.ndarray, str] | None:
        """Likeness of every item to one, float32 (n_items,), and by what; None where this model has no view of it."""


class HasUserLikeness(ABC):
    """Has a view of which users are alike."""

    @abstractmethod
    def user_likeness(self, user_row: int) -> tuple[np.ndarray, str] | None:
        """Likeness of every user to one, float32 (n_users,), and by what; None where this model has no view of it."""


class ComparesByHand(ABC):
    """Has a likeness of its own, on one of the sides, that a person can redo."""

    @property
    @abstractmethod
    def compares_by(self) -> str:
        """What likeness is measured by, in words."""

    @abstractmethod
    def likeness_table(self, side: Literal["item", "user"], row: int) -> LikenessTable | None:
        """Likeness of every item, or user, to one; None on the side that this model does not compare."""


class TakesFeatures(ABC):
    """Looks at what users and items are."""

    needs_features: ClassVar[bool] = False
    """Whether there is nothing to fit without them."""

    @property
    def wants_features(self) -> bool:
        """Whether this one does."""
        return True

    @abstractmethod
    def columns(self, features: Features) -> dict[str, list[str]]:
        """The columns that a fit would look at, by the parameter that names them. Raises ParameterError."""


class KnowsColumns(ABC):
    """Scores users and items that training never saw, by columns of their tables alone."""

    @abstractmethod
    def column_names(self, side: SideName) -> list[str]:
        """The columns of a table that it looked at."""

    @abstractmethod
    def factors_of_rows(self, side: SideName, rows: pl.DataFrame) -> np.ndarray:
        """Factors of rows of a table, encoded as training was: float32 (n, width), for products with the factors of the
        other side. Raises InputError naming a column that is not there."""

    @abstractmethod
    def fold_in_row(self, row: pl.DataFrame, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """A representation of someone of whom a row of the user table is known, and what they touched, which may be
        nothing: float32 (width,)."""

    @abstractmethod
    def with_rows(self, side: SideName, train: InteractionMatrix, rows: pl.DataFrame) -> Model:
        """The same model with more users, or items, known by rows of their table alone. train: its training matrix with
        room for each of them behind the others."""


class HasLogOdds(ABC):
    """Learns with a logistic loss, or to order, so that a line through its scores gives the log-odds that a user takes
    an item."""

    @property
    def has_log_odds(self) -> bool:
        """Whether this one does."""
        return True

    @abstractmethod
    def log_odds(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
        """Of pairs, rows int (n,) of training, before any calibration: float64 (n,). context: a row for each pair, for
        models that take it."""


class WeighsInputs(ABC):
    """Learns how much each of its inputs says."""

    @abstractmethod
    def importance(self) -> dict[str, float]:
        """The share of each input, most first."""


class Refreshable(ABC):
    """Goes on from the state of an older model."""

    @abstractmethod
    def refresh(self, train: InteractionMatrix, old: Model, watch: Watch) -> None:
        """Fit on newer data from an older model's state. Raises ParameterError where that does not fit."""


class HasLoss(ABC):
    """Minimises a loss that cells held out have too."""

    @abstractmethod
    def held_out_loss(self, held_out: HeldOutCells) -> float | None:
        """The mean loss of cells held out, without the penalty."""


def folding(model: Model) -> FoldsIn | None:
    """The model as one that folds someone new in; None where it cannot."""
    return model if isinstance(model, FoldsIn) and model.can_fold_in else None


def order_matters(model: Model) -> bool:
    """Whether it folds in, and reads the order of a history."""
    able = folding(model)
    return able is not None and able.reads_order


def require_folding(model: Model) -> FoldsIn:
    """The same. Raises InputError where it cannot."""
    able = folding(model)
    if able is None:
        raise InputError(f"{model.family} cannot serve someone it never saw")
    return able


def history_of(model: FoldsIn, matrix: InteractionMatrix, user_row: int) -> tuple[np.ndarray, np.ndarray]:
    """Items and values of a user as the model folds them in."""
    return matrix.history_in_order(user_row) if model.reads_order else matrix.history(user_row)


def require_item_folding(model: Model) -> FoldsInItems:
    """The model as one that scores a new item. Raises InputError where it cannot."""
    if not isinstance(model, FoldsInItems):
        raise InputError(f"{model.family} cannot score an item it never saw")
    return model


def taking_features(model: Model) -> TakesFeatures | None:
    """The model as one that looks at features; None where it does not."""
    return model if isinstance(model, TakesFeatures) and model.wants_features else None


def knowing_columns(model: Model, side: SideName) -> KnowsColumns | None:
    """The fitted model as one that scores new rows of a table by their columns; None where it looked at none."""
    return model if isinstance(model, KnowsColumns) and model.column_names(side) else None


def having_log_odds(model: Model) -> HasLogOdds | None:
    """The model as one that has log-odds; None where it has none."""
    return model if isinstance(model, HasLogOdds) and model.has_log_odds else None


def columns_of(model: Model, features: Features | None) -> dict[str, list[str]]:
    """The columns that a fit looks at, by the parameter that names them; none for most."""
    able = taking_features(model)
    return {} if able is None else able.columns(features or Features())


def importance_of(model: Model) -> dict[str, float]:
    """How much each input says, most first; nothing for a model that does not weigh them."""
    return model.importance() if isinstance(model, WeighsInputs) else {}


def factors_of(model: Model) -> Factors | None:
    """The factor form; None where there is none."""
    return model.factors() if isinstance(model, HasFactors) else None


def terms_of(model: Model, user_row: int, item_row: int, context: pl.DataFrame | None = None) -> Terms | None:
    """What a score is the sum of, in a context of one row where one is given; None where the model does not say."""
    return model.terms_in(user_row, item_row, context) if isinstance(model, Explains) else None


def terms_of_history(model: Model, item_rows: np.ndarray, values: np.ndarray, item_row: int) -> Terms | None:
    """Return what the score of a folded-in user adds up to, or None if the model does not say."""
    return model.terms_of_history(item_rows, values, item_row) if isinstance(model, ExplainsHistory) else None


def item_likeness_of(model: Model, item_row: int) -> tuple[np.ndarray, str] | None:
    """Likeness of every item to one, and by what; None where the model has no view of it."""
    return model.item_likeness(item_row) if isinstance(model, HasItemLikeness) else None


def likeness_table_of(model: Model, side: Literal["item", "user"], row: int) -> LikenessTable | None:
    """Likeness of every item, or user, to one, as a person can redo it; None where the model has none of its own."""
    return model.likeness_table(side, row) if isinstance(model, ComparesByHand) else None


def user_likeness_of(model: Model, user_row: int) -> tuple[np.ndarray, str] | None:
    """Likeness of every user to one, and by what; None where the model has no view of it."""
    return model.user_likeness(user_row) if isinstance(model, HasUserLikeness) else None
