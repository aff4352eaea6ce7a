"""A fitted model asked by ids: recommend, audience, similar, rate, explain, factors.

Tables are Polars frames with one row per place. What the service answers and what a notebook sees come from here.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.ties import tie_order
from gleaner.core.data.untrained_cells import NOTHING_UNTRAINED, UntrainedLookup
from gleaner.core.errors import InputError, ParameterError, UnknownNameError
from gleaner.core.explain.explanation import Explanation
from gleaner.core.explain.factors import FactorView, view_of
from gleaner.core.explain.likeness import WorkedLikeness, work_likeness
from gleaner.core.explained import explained
from gleaner.core.models.base.capabilities import (
    HasLogOdds,
    factors_of,
    having_log_odds,
    likeness_table_of,
    require_folding,
    require_item_folding,
)
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.values import ValueModel
from gleaner.core.pairs import SideRows, average_table, chance_table, value_table
from gleaner.core.parallel import Progress
from gleaner.core.ranking.approximate import ApproximateIndex
from gleaner.core.ranking.directions import Side, all_alike, likeness_to, most_alike, top_users
from gleaner.core.ranking.factor_index import FactorIndex
from gleaner.core.ranking.list_tables import table_of_list, table_of_lists
from gleaner.core.ranking.topn import Lists, top_n, top_of

NO_TABLES: SideRows = {}

ANYONE = np.ones(1, np.float32)
"""The one factor of every user, where the scores themselves are the one factor of the items."""


@dataclass(frozen=True)
class NewItems:
    """Items that training never saw: known, how many rows stand before them; by, what they are scored by."""

    known: int
    by: str


@dataclass(frozen=True, eq=False)
class Fitted:
    """A model with the matrix it learned from. calibration: what makes chances of its log-odds. new_items: what stands
    behind the items of training. untrained: what its data version holds beyond that matrix."""

    name: str
    model: Model
    train: InteractionMatrix
    calibration: Calibration | None = None
    new_items: NewItems | None = None
    untrained: UntrainedLookup = NOTHING_UNTRAINED

    @cached_property
    def ties(self) -> np.ndarray:
        """Order of items with equal scores."""
        return tie_order(self.train.items)

    @cached_property
    def user_ties(self) -> np.ndarray:
        """Order of users with equal scores."""
        return tie_order(self.train.users)

    def sources_of(self, rows: np.ndarray) -> list[str]:
        """What brings each item into a list: the model, or for one it never saw the items like it."""
        new = self.new_items
        if new is None:
            return [self.name] * len(rows)
        return [self.name if row < new.known else f"{self.name}, {new.by}" for row in rows.tolist()]

    def approximately(self, candidates: int) -> Fitted:
        """The same model, whose lists for one user come from a vector index. Raises InputError for a model without
        factors, and without the optional package."""
        if not isinstance(self.index, FactorIndex) or not self.model.personal:
            text = f"{self.name} ({self.model.family}) has no factors to look for neighbours in"
            raise InputError(text, where="approximate")
        approximate = replace(self)
        approximate.__dict__["index"] = ApproximateIndex.of(self.index, candidates)
        return approximate

    @cached_property
    def typical_value(self) -> np.float32:
        """The median of the training cells, for an item of which only the id is known."""
        return np.float32(np.median(self.train.values))

    @cached_property
    def index(self) -> FactorIndex | ApproximateIndex | None:
        """Items arranged for one user at a time: where scores are products of factors, or the same for everyone."""
        factors = factors_of(self.model)
        if factors is not None:
            return FactorIndex.of(factors.items, self.ties)
        if self.model.personal:
            return None
        return FactorIndex.of(self.model.scores(np.zeros(1, np.int32)).T, self.ties)

    def __repr__(self) -> str:
        return f"Fitted {self.name}: {self.model!r}"

    def best_for(
        self, row: int, n: int, allowed: np.ndarray | None = None, left_out: np.ndarray | None = None
    ) -> Lists:
        """The n best items of one trained user, without scoring them all where the model allows.

        allowed: bool (n_items,). left_out: rising int32 item rows. The same items as `recommend` lists; the scores of
        factor models agree with its to the rounding of 32 bits.
        """
        if self.index is None:
            return self.best_scored(self.model.scores(np.array([row], np.int32))[0], n, allowed, left_out)
        factors = factors_of(self.model)
        return self.index.best(ANYONE if factors is None else factors.users[row], n, allowed, left_out)

    def best_from(
        self,
        item_rows: np.ndarray,
        values: np.ndarray,
        n: int,
        allowed: np.ndarray | None = None,
        left_out: np.ndarray | None = None,
    ) -> Lists:
        """The same for a history that is folded in; a model that is the same for everyone needs none."""
        user = require_folding(self.model).fold_in(item_rows, values) if self.model.personal else None
        return self.best_of(user, n, allowed, left_out)

    def best_of(
        self,
        representation: np.ndarray | None,
        n: int,
        allowed: np.ndarray | None = None,
        left_out: np.ndarray | None = None,
    ) -> Lists:
        """The same for someone folded in before; None for a model that is the same for everyone."""
        if self.index is not None and representation is not None:
            return self.index.best(representation, n, allowed, left_out)
        if self.index is not None:
            factors = factors_of(self.model)
            return self.index.best(ANYONE if factors is None else factors.users[0], n, allowed, left_out)
        if representation is None:
            return self.best_scored(self.model.scores(np.zeros(1, np.int32))[0], n, allowed, left_out)
        return self.best_scored(require_folding(self.model).scores_of(representation), n, allowed, left_out)

    def best_scored(
        self, scores: np.ndarray, n: int, allowed: np.ndarray | None = None, left_out: np.ndarray | None = None
    ) -> Lists:
        """The same by scores of every item, float32 (n_items,)."""
        kept = scores if allowed is None else np.where(allowed, scores, np.float32(-np.inf))
        return top_of(kept, n, self.ties, left_out)

    def recommend(
        self,
        users: str | Sequence[str] | None = None,
        n: int = 10,
        *,
        include_known: bool = False,
        candidates: Sequence[str] | None = None,
        known: InteractionMatrix | None = None,
        progress: Progress | None = None,
    ) -> pl.DataFrame:
        """Return the n best items of one user, several, or all: columns user, position, item, score.

        include_known keeps what a user has. known: what each user has, in the rows of the training matrix; defaults to
        that matrix. candidates: only these items; with n as many, they are put in order.
        Raises UnknownNameError for a user training never saw (`recommend_from` serves those).
        """
        ids = self.train.users.ids.to_pylist() if users is None else [users] if isinstance(users, str) else list(users)
        rows = self.known_rows(self.train.users, ids, "user")
        exclude = None if include_known else known or self.train
        allowed = self.mask(self.train.items, candidates, "candidates")
        if len(rows) == 1:
            # as a shelf lists for one user
            gone = None if exclude is None else exclude.history(int(rows[0]))[0]
            one = self.best_for(int(rows[0]), n, allowed, gone)
            lists = Lists(one.items[None], one.scores[None])
        else:
            lists = top_n(self.model, rows, n, self.ties, exclude=exclude, allowed=allowed, progress=progress)
        return table_of_lists(ids, lists, "user", "item", self.train.items)

    def recommend_from(
        self,
        items: Sequence[str],
        values: Sequence[float] | None = None,
        n: int = 10,
        *,
        include_known: bool = False,
        candidates: Sequence[str] | None = None,
    ) -> pl.DataFrame:
        """The n best items for someone training never saw, from a few items they touched, with values or without.

        Items the model does not know are passed over. Columns position, item, score.
        """
        rows, cell_values = self._history(self.train.items, items, values, "items")
        scores = self.scores_from(rows, cell_values)
        allowed = self.mask(self.train.items, candidates, "candidates")
        if allowed is not None:
            scores = np.where(allowed, scores, np.float32(-np.inf))
        lists = top_of(scores, n, self.ties, None if include_known else rows)
        return table_of_list(lists, "item", self.train.items)

    def scores_from(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Scores of every item for a history: float32 (n_items,)."""
        if not self.model.personal:
            return self.model.scores(np.zeros(1, np.int32))[0]
        model = require_folding(self.model)
        return model.scores_of(model.fold_in(item_rows, values))

    def audience(
        self,
        items: str | Sequence[str] | None = None,
        n: int = 10,
        *,
        include_known: bool = False,
        candidates: Sequence[str] | None = None,
        known: InteractionMatrix | None = None,
        progress: Progress | None = None,
    ) -> pl.DataFrame:
        """Return the n users who would like an item most, for one item, several, or all: item, position, user, score.

        known: who has which item, in the rows of the training matrix; defaults to that matrix.
        """
        ids = self.train.items.ids.to_pylist() if items is None else [items] if isinstance(items, str) else list(items)
        rows = self.known_rows(self.train.items, ids, "item")
        exclude = None if include_known else known or self.train
        allowed = self.mask(self.train.users, candidates, "candidates")
        lists = top_users(self.model, rows, n, self.user_ties, exclude=exclude, allowed=allowed, progress=progress)
        return table_of_lists(ids, lists, "item", "user", self.train.users)

    def audience_from(
        self,
        users: Sequence[str],
        values: Sequence[float] | None = None,
        n: int = 10,
        *,
        include_known: bool = False,
        candidates: Sequence[str] | None = None,
    ) -> pl.DataFrame:
        """The n users who would like an item training never saw, from users who touched it: position, user, score."""
        rows, cell_values = self._history(self.train.users, users, values, "users")
        model = require_item_folding(self.model)
        scores = model.scores_of_item(model.fold_in_item(rows, cell_values))
        allowed = self.mask(self.train.users, candidates, "candidates")
        if allowed is not None:
            scores = np.where(allowed, scores, np.float32(-np.inf))
        return table_of_list(
            top_of(scores, n, self.user_ties, None if include_known else rows), "user", self.train.users
        )

    def similar(self, side: Side, id: str, n: int = 10, candidates: Sequence[str] | None = None) -> pl.DataFrame:
        """The n items most like an item, or users most like a user: position, item or user, likeness; raw and overlap
        too where the likeness can be redone by hand."""
        ids, ties = (self.train.items, self.ties) if side == "item" else (self.train.users, self.user_ties)
        row = int(self.known_rows(ids, [id], side)[0])
        lists, _ = most_alike(self.model, self.train, side, row, n, ties, self.mask(ids, candidates, "candidates"))
        frame = table_of_list(lists, side, ids, "likeness")
        table = likeness_table_of(self.model, side, row)
        if table is None:
            return frame
        parts = {"raw": table.raw, "overlap": table.overlap}
        return frame.with_columns(pl.Series(name, part[lists.items]) for name, part in parts.items())

    def similar_all(
        self, side: Side, ids: Sequence[str] | None = None, n: int = 10, candidates: Sequence[str] | None = None
    ) -> pl.DataFrame:
        """The same for several, or all: columns item, position, like, likeness (user instead of item)."""
        names, ties = (self.train.items, self.ties) if side == "item" else (self.train.users, self.user_ties)
        wanted = names.ids.to_pylist() if ids is None else list(ids)
        rows = self.known_rows(names, wanted, side)
        lists = all_alike(self.model, self.train, side, rows, n, ties, self.mask(names, candidates, "candidates"))
        return table_of_lists(wanted, lists, side, "like", names).rename({"score": "likeness"})

    def likeness_is(self, side: Side) -> str:
        """What `similar` compares by."""
        return likeness_to(self.model, self.train, side, 0)[1]

    def likeness(self, side: Side, one: str, other: str) -> WorkedLikeness:
        """How alike two items, or users, are, worked so that it can be redone by hand. Raises UnknownNameError, and
        InputError where the model's likeness is learned."""
        ids = self.train.items if side == "item" else self.train.users
        rows = self.known_rows(ids, [one, other], side)
        return work_likeness(self.model, self.train, side, int(rows[0]), int(rows[1]))

    def rate(
        self,
        users: str | Sequence[str],
        items: str | Sequence[str],
        context: Mapping[str, Any] | Sequence[Mapping[str, Any]] | None = None,
        *,
        tables: SideRows = NO_TABLES,
    ) -> pl.DataFrame:
        """Predicted values of pairs: columns user, item, value, answerable, reason, fell_back_on.

        context: columns of the interaction by name, for all pairs or for each, where the model looks at some. tables:
        "users" and "items", each with a column `id`: a model that looks at columns knows by these whom and what
        training never saw. Raises InputError for a model that does not predict values, or does not look at what the
        context names.
        """
        return value_table(self.require_values(), self.train, users, items, context, tables)

    def likelihood(
        self,
        users: str | Sequence[str],
        items: str | Sequence[str],
        context: Mapping[str, Any] | Sequence[Mapping[str, Any]] | None = None,
        *,
        tables: SideRows = NO_TABLES,
    ) -> pl.DataFrame:
        """The chance that each user takes each item when shown: columns user, item, likelihood, answerable, reason.

        A chance is null where nothing is known of the user or the item. context, tables: as for `rate`. Raises
        InputError for a model that has no chances.
        """
        return chance_table(self.model, self.require_likelihood(), self.train, users, items, context, tables)

    @property
    def has_likelihood(self) -> bool:
        """Whether it answers chances."""
        return self.calibration is not None and having_log_odds(self.model) is not None

    def require_likelihood(self) -> tuple[HasLogOdds, Calibration]:
        """The model as one that has log-odds, and its calibration. Raises InputError saying what it lacks."""
        able = having_log_odds(self.model)
        if able is None:
            how = " with this loss" if isinstance(self.model, HasLogOdds) else ""
            text = f"{self.name} ({self.model.family}) has no likelihood{how}: its scores put items in order, no more"
            raise InputError(text, where="model")
        if self.calibration is None:
            text = f"{self.name} has no likelihood: it is calibrated in a contest that has a validation part"
            raise InputError(text, where="model")
        return able, self.calibration

    def averages(self, n: int = 20) -> pl.DataFrame:
        """Mean observed and mean predicted value of the n items with the most values, over the users who gave one:
        columns item, count, observed, predicted."""
        return average_table(self.require_values(), self.train, self.ties, n)

    def explain(self, user: str, item: str) -> Explanation:
        """Why this user gets this score for this item."""
        user_row = int(self.known_rows(self.train.users, [user], "user")[0])
        item_row = int(self.known_rows(self.train.items, [item], "item")[0])
        return explained(self, user, user_row, item, item_row)

    @cached_property
    def factor_view(self) -> FactorView:
        """The factors on axes that can be read. Raises InputError for a model without factors."""
        factors = factors_of(self.model)
        if factors is None or not factors.item_tastes.shape[1]:
            raise InputError(f"{self.name} ({self.model.family}) has no factors to look at", where="model")
        return view_of(factors)

    def known_rows(self, ids: IdMap, given: Sequence[str], what: str) -> np.ndarray:
        """Rows of ids. Raises UnknownNameError naming the first that training never saw."""
        rows = ids.rows(given)
        if (rows < 0).any():
            unknown = given[int(np.flatnonzero(rows < 0)[0])]
            raise UnknownNameError(f"{self.name} was not trained on {what} {unknown!r}", where=what)
        return rows

    def mask(self, ids: IdMap, chosen: Sequence[str] | None, what: str) -> np.ndarray | None:
        """Mask of the ids chosen, those unknown passed over; None for all. Raises InputError where none is known."""
        if chosen is None:
            return None
        rows = ids.rows(chosen)
        if not (rows >= 0).any():
            raise InputError(f"{self.name} knows none of the {len(chosen)} {what} given", where=what)
        mask = np.zeros(len(ids), dtype=bool)
        mask[rows[rows >= 0]] = True
        return mask

    def require_values(self) -> ValueModel:
        """The model as one that predicts values. Raises InputError where it does not."""
        if not isinstance(self.model, ValueModel):
            raise InputError(
                f"{self.name} ({self.model.family}) ranks and does not predict values; "
                "als_values, sgd_values, item_knn_values and others do",
                where="model",
            )
        return self.model

    def _history(
        self, ids: IdMap, given: Sequence[str], values: Sequence[float] | None, what: str
    ) -> tuple[np.ndarray, np.ndarray]:
        """Rows and values of a short history; without values each counts as a typical one of training."""
        if values is not None and len(values) != len(given):
            raise ParameterError(f"{len(values)} values are given for {len(given)} {what}", where="values")
        cell_values = np.full(len(given), self.typical_value) if values is None else np.asarray(values, np.float64)
        if not np.isfinite(cell_values).all():
            raise ParameterError("values must be finite numbers", where="values")
        rows = ids.rows(given)
        rows, first = np.unique(rows, return_index=True)
        known = rows >= 0
        if not known.any():
            raise InputError(f"{self.name} knows none of the {len(given)} {what} given", where=what)
        return rows[known], cell_values[first[known]].astype(np.float32)
