"""What every model keeps."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field, fields
from typing import Any, ClassVar, Literal, Self

import numpy as np

from gleaner.core.data.array_checks import Layout, check_arrays
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import InputError, ParameterError, near
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.watching import Watch

_NOTHING = object()
Arrays = dict[str, np.ndarray]
Feedback = Literal["implicit", "explicit", "either"]


@dataclass
class Model(ABC):
    """Base of all models. Fields of a subclass are its parameters; learned values end in an underscore.

    Class facts say what a model takes; what it can do beside fitting and scoring it adopts from `capabilities`. Callers
    read both and never test for a family by name. unfit: what it is not for. effort: the cost of a fit, in words.
    personal: whether users get lists of their own. retired: parameters of before that had one possible value, with it.
    """

    family: ClassVar[str]
    feedback: ClassVar[Feedback]
    summary: ClassVar[str]
    source: ClassVar[str] = ""
    unfit: ClassVar[str] = ""
    effort: ClassVar[str] = ""
    personal: ClassVar[bool] = True
    retired: ClassVar[dict[str, Any]] = {}

    def fit(self, train: InteractionMatrix, *, features: Features | None = None, watch: Watch | None = None) -> Self:
        """Learn from observed cells. features: what users and items are, for models that take them.

        Raises InputError where the data does not fit, CancelledError on a stop. The best iteration is kept where the
        watch judges with patience.
        """
        watch = watch or Watch()
        self.require_fit(train)
        self.learn(train, features, watch)
        best = watch.keep_best()
        return self if best is None else self.load_state(best, train)

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

    def lacks_to_learn(self) -> str | None:
        """What has to be installed before it can be fitted here; None where nothing is missing."""
        return None

    @abstractmethod
    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Scores of every item for some users: float32 (len(user_rows), n_items). Higher is better."""

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """What a fit takes, roughly: operations and bytes."""
        return Cost(10.0 * cells, 24.0 * cells)

    def columns_given(self) -> dict[str, list[str] | None]:
        """What the parameters that name columns say: `item_columns`, `user_columns`, `context_columns`; None for all
        there are."""
        named = ("item_columns", "user_columns", "context_columns")
        names = [each.name for each in fields(self) if each.init and each.name in named]
        return {name: getattr(self, name) for name in names}

    def chosen(self) -> dict[str, float]:
        """Return the parameters that were left to the fit, and what it chose; those of a member after its family.

        A member whose family occurs before it is numbered: `item_linear 2.regularisation`.
        """
        chosen: dict[str, float] = {}
        counts: Counter[str] = Counter()
        for member in self.members_of():
            counts[member.family] += 1
            number = counts[member.family]
            name_of_member = member.family if number == 1 else f"{member.family} {number}"
            chosen |= {f"{name_of_member}.{name}": value for name, value in member.chosen().items()}
        return chosen

    def members_of(self) -> list[Model]:
        """Models that this one is made of; none for most."""
        return []

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

    @abstractmethod
    def state(self) -> Arrays:
        """Learned values as plain arrays. With `params()` and the training matrix they make the model again."""

    @abstractmethod
    def layout(self, train: InteractionMatrix) -> Layout:
        """What the arrays of `state()` must be, for this training matrix and these parameters."""

    @abstractmethod
    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take learned values back from a state that is known to fit."""

    def restore(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Take learned values back from a file. Raises DataError naming an array that does not fit the layout."""
        arrays = self.brought_up(arrays)
        check_arrays(arrays, self.layout(train), self.family)
        return self.load_state(arrays, train)

    def brought_up(self, arrays: Arrays) -> Arrays:
        """A state that an older version kept, as today's; any other as it is."""
        return arrays

    def params(self) -> dict[str, Any]:
        """The parameters, as JSON values."""
        return {each.name: getattr(self, each.name) for each in fields(self) if each.init}

    @classmethod
    def from_params(cls, given: dict[str, Any]) -> Self:
        """Build from named parameters. Raises ParameterError naming one that does not exist or does not fit."""
        known = [each.name for each in fields(cls) if each.init]
        given = {name: value for name, value in given.items() if cls.retired.get(name, _NOTHING) != value}
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
