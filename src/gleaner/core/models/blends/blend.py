"""Blends of several models: weighted sums of normalised scores, and reciprocal-rank fusion."""

from __future__ import annotations

import json
from abc import abstractmethod
from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import ParameterError, require_range
from gleaner.core.models.base.capabilities import FoldsIn, TakesFeatures, folding, order_matters, taking_features
from gleaner.core.models.base.context import TakesContext
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.composition.members import (
    brought_up_members,
    build_member,
    fit_members,
    joined_encoder,
    layouts_of,
    scores_of_history,
    scores_of_member,
    state_of_member,
    states_of,
)

MAX_MEMBERS = 10
DEFAULT_MEMBERS: tuple[dict[str, Any], ...] = ({"item_knn": {}}, {"als": {}})
ShownLists = list[Any]
"""What members say of someone new, with the items shown last."""


@dataclass(repr=False)
class Blend(Model, FoldsIn, TakesFeatures, TakesContext):
    """Fits its members on the same data and joins their scores. `members` are families, or `{family: parameters}`;
    `weights`, one each, default to the same for all. Items the user has are left out before scores are normalised."""

    feedback: ClassVar = "either"
    members: list[Any] = parameter([*DEFAULT_MEMBERS], "families, or `{family: parameters}`")
    weights: list[float] | None = parameter(None, "one for each member")
    models_: list[Model] = learned(list)
    train_: InteractionMatrix | None = learned(lambda: None)

    def __post_init__(self) -> None:
        if not isinstance(self.members, list) or not 2 <= len(self.members) <= MAX_MEMBERS:
            raise ParameterError(f"members must be a list of 2 to {MAX_MEMBERS} models", where="members")
        if self.weights is None:
            self.weights = [1.0] * len(self.members)
        if not isinstance(self.weights, list):
            raise ParameterError(f"weights must be a list of numbers, not {self.weights!r}", where="weights")
        if len(self.weights) != len(self.members):
            raise ParameterError(
                f"{len(self.weights)} weights are given for {len(self.members)} members", where="weights"
            )
        for place, weight in enumerate(self.weights):
            require_range(f"weights[{place}]", weight, 0)
        self.models_ = [build_member(member) for member in self.members]

    @property
    def can_fold_in(self) -> bool:
        """Whether a member says anything of someone new."""
        return any(folding(model) is not None or not model.personal for model in self.models_)

    @property
    def wants_features(self) -> bool:
        """Whether a member does."""
        return any(taking_features(model) is not None for model in self.models_)

    def columns(self, features: Features) -> dict[str, list[str]]:
        """A blend names none: its members do."""
        return {}

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """The sum of the members'."""
        models = [build_member(member) for member in params["members"]]
        costs = [model.cost(model.params(), shape, cells) for model in models]
        return Cost(sum(cost.operations for cost in costs), sum(cost.bytes for cost in costs))

    def require_fit(self, train: InteractionMatrix) -> None:
        """Every member must take the data."""
        super().require_fit(train)
        for model in self.models_:
            model.require_fit(train)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Fit one after the other; rounds are not judged, for a blend has none."""
        self.train_ = train
        self.models_ = fit_members(self.models_, train, features, watch)

    def members_of(self) -> list[Model]:
        """Those whose scores it joins."""
        return self.models_

    @property
    def encoder(self) -> ContextEncoder:
        """The columns of the interaction that a member looks at."""
        return joined_encoder(self.models_)

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Joined scores; what a user has keeps a score below all others."""
        return self._scores(user_rows, None)

    def scores_in(self, user_rows: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """The same, with the members that look at it in each user's row of the context."""
        return self._scores(user_rows, context)

    def _scores(self, user_rows: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        train = self.trained_on
        known = np.zeros((len(user_rows), len(train.items)), dtype=bool)
        for place, row in enumerate(user_rows):
            known[place, train.history(int(row))[0]] = True
        return self._joined([scores_of_member(model, user_rows, context) for model in self.models_], known)

    def _joined(self, tables: list[np.ndarray], known: np.ndarray) -> np.ndarray:
        assert self.weights is not None
        total = np.zeros(tables[0].shape)
        for table, weight in zip(tables, self.weights, strict=True):
            total += weight * self.normal(table.astype(np.float64), known)
        low = np.where(known, np.inf, total).min(axis=1, keepdims=True)
        low = np.where(np.isfinite(low), low, 0)
        return np.where(known, low - 1, total).astype(np.float32)

    @abstractmethod
    def normal(self, table: np.ndarray, known: np.ndarray) -> np.ndarray:
        """Scores of one member made comparable: float64, the same shape."""

    @property
    def reads_order(self) -> bool:  # type: ignore[override]  # a class fact of most, here of the members
        """Where a member does."""
        return any(order_matters(model) for model in self.models_)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The history itself: float64 (2, n)."""
        return np.vstack([item_rows, values]).astype(np.float64)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Members that can, fold in; those that are the same for all need not; others do not count."""
        return self._scores_of(representation, None)

    def scores_of_in(self, representation: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """The same, in a context of one row."""
        return self._scores_of(representation, context)

    def _scores_of(self, representation: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        items, values = representation[0].astype(np.int32), representation[1].astype(np.float32)
        tables = [
            scores_of_history(model, items, values, len(self.trained_on.items), context) for model in self.models_
        ]
        known = np.zeros((1, len(self.trained_on.items)), dtype=bool)
        known[0, items] = True
        return self._joined([table[None] for table in tables], known)[0]

    def state(self) -> Arrays:
        """States of the members, their names with a number before."""
        return states_of(self.models_)

    def layout(self, train: InteractionMatrix) -> Layout:
        """Those of the members, with their numbers before."""
        return layouts_of(self.models_, train)

    def brought_up(self, arrays: Arrays) -> Arrays:
        """Those of the members."""
        return brought_up_members(self.models_, arrays)

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load them."""
        self.train_ = train
        for place, model in enumerate(self.models_):
            model.load_state(state_of_member(arrays, place), train)
        return self

    def __hash__(self) -> int:
        return hash(json.dumps(self.params(), sort_keys=True))


@dataclass(repr=False)
class ScoreBlend(Blend):
    """score = sum over members m of weight_m z_m, z the member's scores over the candidates less their mean, over their
    deviation (`normalise: deviation`), or from 0 at the lowest to 1 at the highest (`range`) (Lee 1997)."""

    family: ClassVar[str] = "blend"
    summary: ClassVar[str] = "a weighted sum of several models' normalised scores"
    source: ClassVar[str] = "Lee 1997"
    unfit: ClassVar[str] = "when one member alone is as good: it costs the sum of all"
    effort: ClassVar[str] = "the sum of its members"

    normalise: Literal["deviation", "range"] = parameter("deviation", "by `deviation`, or to the `range` 0 to 1")

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.normalise not in ("deviation", "range"):
            raise ParameterError(f"normalise must be deviation or range, not {self.normalise!r}", where="normalise")

    def normal(self, table: np.ndarray, known: np.ndarray) -> np.ndarray:
        """Per user, over what they do not have."""
        free = np.where(known, np.nan, table)
        free[known.all(axis=1)] = 0
        if self.normalise == "range":
            low, high = np.nanmin(free, axis=1, keepdims=True), np.nanmax(free, axis=1, keepdims=True)
            return (table - low) / np.where(high > low, high - low, 1)
        spread = np.nanstd(free, axis=1, keepdims=True)
        return (table - np.nanmean(free, axis=1, keepdims=True)) / np.where(spread > 0, spread, 1)


@dataclass(repr=False)
class RankBlend(Blend):
    """score = sum over members m of weight_m / (offset + rank_m), rank_m the place of the item in the member's list of
    candidates, ties sharing their mean place (Cormack, Clarke, Buettcher 2009)."""

    family: ClassVar[str] = "blend_ranks"
    summary: ClassVar[str] = "several models' lists joined by reciprocal rank"
    source: ClassVar[str] = "Cormack, Clarke, Buettcher 2009"
    unfit: ClassVar[str] = "when scores say more than places"
    effort: ClassVar[str] = "the sum of its members, and a sort a user"

    offset: float = parameter(60.0, "added to every place")

    def __post_init__(self) -> None:
        super().__post_init__()
        require_range("offset", self.offset, 0)

    def normal(self, table: np.ndarray, known: np.ndarray) -> np.ndarray:
        """1 / (offset + place)."""
        from scipy.stats import rankdata

        places = rankdata(np.where(known, np.inf, -table), axis=1)
        return 1 / (self.offset + places)
