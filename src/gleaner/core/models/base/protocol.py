"""What every model keeps."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass, field, fields
from typing import Any, ClassVar, Literal, Self

import numpy as np

from gleaner.core.data.array_checks import Layout, check_arrays
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.side import Features
from gleaner.core.errors import InputError, ParameterError, near
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.watching import Held, Watch

Arrays = dict[str, np.ndarray]
Feedback = Literal["implicit", "explicit", "either"]


@dataclass(frozen=True, eq=False)
class Terms:
    """A score as a sum a person can redo: start + sum of columns["adds"] = result, one place per row.

    side: whether rows are items of the history or users. formula: how `adds` comes from the other columns. columns:
    float64 (n,) each; "overlap" counts what two have in common.
    """

    side: Literal["item", "user"]
    rows: np.ndarray
    columns: dict[str, np.ndarray]
    formula: str
    start: float = 0.0

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


@dataclass
class Model(ABC):
    """Base of all models. Fields of a subclass are its parameters; learned values end in an underscore.

    Class facts say what a model takes and can do; callers read them and never test for a family by name.
    """

    family: ClassVar[str]
    feedback: ClassVar[Feedback]
    summary: ClassVar[str]
    source: ClassVar[str] = ""
    unfit: ClassVar[str] = ""
    predicts_values: ClassVar[bool] = False
    takes_features: ClassVar[bool] = False
    needs_features: ClassVar[bool] = False
    folds_in: ClassVar[bool] = False
    folds_in_items: ClassVar[bool] = False
    personal: ClassVar[bool] = True
    refreshes: ClassVar[bool] = False

    def fit(self, train: InteractionMatrix, *, features: Features | None = None, watch: Watch | None = None) -> Self:
        """Learn from observed cells. features: what users and items are, for models that take them.

        Raises InputError where the data does not fit, CancelledError on a stop. The best iteration is kept where the
        watch judges with patience.
        """
        watch = watch or Watch()
        self.require_fit(train)
        self.learn(train, features, watch)
        best = watch.keep_best()
        return self if best is None else self.take_back(best, train)

    def require_fit(self, train: InteractionMatrix) -> None:
        """Raise InputError when there is nothing to learn from, or the feedback is not of the sort this model takes."""
        if train.n_cells == 0:
            raise InputError(f"{self.family} has nothing to learn from: the training part has no interactions")
        if not np.isfinite(train.values).all():
            raise InputError(f"{self.family}: some values are not finite numbers", where="value")
        if self.feedback == "explicit" and train.scale is None:
            raise InputError(
                f"{self.family} predicts values, and this training matrix holds weights; "
                "prepare with `use: values` on data with a value column, or take an implicit model",
                where="use",
            )

    @abstractmethod
    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """The fit itself, on data that was checked."""

    def refresh(self, train: InteractionMatrix, old: Model, watch: Watch) -> None:
        """Fit on newer data from an older model's state. Only where `refreshes` says so."""
        raise InputError(f"{self.family} has no state to go on from; fit it anew")

    @abstractmethod
    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Scores of every item for some users: float32 (len(user_rows), n_items). Higher is better."""

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """What a fit takes, roughly: operations and bytes."""
        return Cost(10.0 * cells, 24.0 * cells)

    def columns_given(self) -> dict[str, list[str] | None]:
        """What the parameters that name columns say, `item_columns` and `user_columns`; None for all there are."""
        names = [each.name for each in fields(self) if each.init and each.name in ("item_columns", "user_columns")]
        return {name: getattr(self, name) for name in names}

    def columns(self, features: Features) -> dict[str, list[str]]:
        """The columns that a fit would look at, by the parameter that names them. Raises ParameterError."""
        return {}

    def held_loss(self, held: Held) -> float | None:
        """The mean loss of cells held out, without the penalty; None where the method has no such loss."""
        return None

    def factors(self) -> Factors | None:
        """The factor form, where scores are a plain product that ranking can use directly."""
        return None

    def item_scores(self, item_rows: np.ndarray) -> np.ndarray:
        """Scores of every user for some items: float32 (len(item_rows), n_users)."""
        n_users = len(self.trained_on.users)
        table = np.empty((len(item_rows), n_users), dtype=np.float32)
        block = max(1, 4_000_000 // max(1, len(self.trained_on.items)))
        for lo in range(0, n_users, block):
            rows = np.arange(lo, min(lo + block, n_users), dtype=np.int32)
            table[:, lo : lo + len(rows)] = self.scores(rows)[:, item_rows].T
        return table

    @property
    def trained_on(self) -> InteractionMatrix:
        """The training matrix."""
        train: InteractionMatrix | None = getattr(self, "train_", None)
        if train is None:
            raise InputError(f"{self.family} is not fitted")
        return train

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """A representation of someone not seen in training, from their items, for `scores_of`."""
        raise InputError(f"{self.family} cannot serve someone it never saw")

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Scores of every item for a folded-in representation: float32 (n_items,)."""
        raise InputError(f"{self.family} cannot serve someone it never saw")

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """A representation of an item not seen in training, from the users who touched it, for `scores_of_item`."""
        raise InputError(f"{self.family} cannot score an item it never saw")

    def scores_of_item(self, representation: np.ndarray) -> np.ndarray:
        """Scores of a folded-in item for every user: float32 (n_users,)."""
        raise InputError(f"{self.family} cannot score an item it never saw")

    def like_items(self, item_row: int) -> tuple[np.ndarray, str] | None:
        """Likeness of every item to one, float32 (n_items,), and by what; None where the model has no view of it."""
        return None

    def like_users(self, user_row: int) -> tuple[np.ndarray, str] | None:
        """Likeness of every user to one, float32 (n_users,), and by what; None where the model has no view of it."""
        return None

    def terms(self, user_row: int, item_row: int) -> Terms | None:
        """What a score is the sum of, exactly; None where it is not a sum."""
        return None

    @abstractmethod
    def state(self) -> Arrays:
        """Learned values as plain arrays. With `params()` and the training matrix they make the model again."""

    @abstractmethod
    def layout(self, train: InteractionMatrix) -> Layout:
        """What the arrays of `state()` must be, for this training matrix and these parameters."""

    @abstractmethod
    def take_back(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take learned values back from a state that is known to fit."""

    def restore(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take learned values back from a file. Raises DataError naming an array that does not fit the layout."""
        check_arrays(arrays, self.layout(train), self.family)
        return self.take_back(arrays, train)

    def params(self) -> dict[str, Any]:
        """The parameters, as JSON values."""
        return {each.name: getattr(self, each.name) for each in fields(self) if each.init}

    @classmethod
    def from_params(cls, given: dict[str, Any]) -> Self:
        """Build from named parameters. Raises ParameterError naming one that does not exist or does not fit."""
        known = [each.name for each in fields(cls) if each.init]
        for name in given:
            if name not in known:
                raise ParameterError(f"{cls.family} has no parameter {name!r}{near(name, known)}", where=name)
        return cls(**given)

    def __repr__(self) -> str:
        shown = ", ".join(f"{name}={value!r}" for name, value in self.params().items())
        train: InteractionMatrix | None = getattr(self, "train_", None)
        fitted = "not fitted" if train is None else f"{train.shape[0]:,} users x {train.shape[1]:,} items"
        return f"{self.family}({shown}) [{fitted}]"


def learned(kind: Callable[[], Any]) -> Any:
    """A field that `fit` fills; not a parameter."""

    return field(init=False, repr=False, compare=False, default_factory=kind)


def no_array() -> np.ndarray:
    """An empty matrix, before a fit."""
    return np.empty((0, 0), dtype=np.float32)
