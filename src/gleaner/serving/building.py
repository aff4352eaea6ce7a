"""From a shelf's file to a shelf that answers: models, tables, conditions, sources, steps and slots.

Where models and tables come from is given: the store of a service, or the frames of a notebook.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import polars as pl

from gleaner.core.errors import InputError, near
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import factors_of, folding, knowing_columns
from gleaner.core.new_items import with_new_items
from gleaner.core.preparation.live_cells import LiveReading
from gleaner.core.ranking.conditions.condition import Condition
from gleaner.serving.candidates import Pool, Scorer
from gleaner.serving.conditions import Eligible, KnownUsers, condition_of, require_user_columns, warm_conditions
from gleaner.serving.lookalikes import Lookalikes
from gleaner.serving.shelf import LoadedShelf
from gleaner.serving.slots import slots_of
from gleaner.serving.sources import (
    CandidateSource,
    FromBasket,
    FromItems,
    FromLike,
    FromModel,
    FromShelf,
    FromWindow,
    onto,
)
from gleaner.serving.tables import ItemTable
from gleaner.wire.shelves.shelf import RecommendRequest, ShelfSpec, SlotsSpec
from gleaner.wire.shelves.sources import TAKE, CandidateSpec, FallbackSpec, LookalikesSpec, NewItemsSpec, PopularSpec

Kept = dict[tuple[str, tuple[str, ...], int], tuple[pl.DataFrame | None, Lookalikes | Fitted]]
"""Lookalikes, and models with new items, by model, columns and number, with the table they were made of."""

Nested = Callable[[str], LoadedShelf]
"""A version of another shelf."""


@dataclass(frozen=True, eq=False)
class ShelfTables:
    """The items that a model's shelf sees, what is known of who asks, and their dataset where there is one."""

    items: ItemTable
    people: KnownUsers
    dataset_id: int | None = None


class ShelfLookups(Protocol):
    """Where the parts of a shelf come from."""

    def model(self, name: str) -> Fitted:
        """A model by its name. Raises UnknownNameError."""

    def tables(self, main: Fitted) -> ShelfTables:
        """The tables that go with a model."""

    def reading(self, fitted: Fitted) -> LiveReading:
        """How a model's preparation reads events."""


class ShelfBuilder:
    """Looks up what one shelf is built of. Raises InputError or UnknownNameError naming what does not fit."""

    def __init__(self, lookups: ShelfLookups, spec: ShelfSpec, kept: Kept) -> None:
        self.lookups, self.spec, self.kept = lookups, spec, kept
        self.last = fallback_of(spec, lookups)
        main = lookups.model(spec.main() or self.last.name)
        tables = lookups.tables(main)
        self.items, self.people, self.dataset_id = tables.items, tables.people, tables.dataset_id
        warm_conditions(self.items)
        self.main = main if spec.new_items is None else self._with_new(main, spec.new_items)
        if spec.approximate is not None:
            self.main = self._approximately(self.main, spec.approximate.candidates)
        self.condition: Condition | None = None
        if spec.where is not None:
            self.condition = condition_of(spec.where, self.items, self.people)
        require_user_columns(spec.requests, self.people)
        self._eligible: dict[str, Eligible] = {}

    def _with_new(self, main: Fitted, wanted: NewItemsSpec) -> Fitted:
        """Made again only where one of the columns that likeness looks at has changed."""
        frame = self.items.frame
        if frame is None:
            raise InputError("new items need columns, and the dataset has no table of items", where="new_items")
        knows = knowing_columns(main.model, "items")
        looks_at = wanted.columns or (knows.column_names("items") if knows is not None else [])
        key = main.name, ("new items", *(wanted.columns or ("its own",))), wanted.alike
        there = frame.select([name for name in ("id", *looks_at) if name in frame.columns])
        kept = self.kept.get(key)
        if kept is None or kept[0] is None or not kept[0].equals(there):
            kept = self.kept[key] = there, with_new_items(main, frame, wanted.columns, wanted.alike)
        assert isinstance(kept[1], Fitted)
        return kept[1]

    def _approximately(self, main: Fitted, candidates: int) -> Fitted:
        """A graph takes long to build, and is built once for a model."""
        key = main.name, ("approximate", str(len(main.train.items))), candidates
        kept = self.kept.get(key)
        if kept is None:
            kept = self.kept[key] = None, main.approximately(candidates)
        assert isinstance(kept[1], Fitted)
        return kept[1]

    def model(self, name: str) -> Fitted:
        """A model by its name; the one that scores with the new items that it can list here."""
        fitted = self.lookups.model(name)
        return self.main if fitted.name == self.main.name else fitted

    def eligible(self, fitted: Fitted) -> Eligible:
        """The items of a model that may be listed, made once for each."""
        if fitted.name not in self._eligible:
            measure = self.lookups.reading(fitted)
            ranker = Eligible(fitted, self.items, self.people, self.condition, measure, self.spec.requests)
            self._eligible[fitted.name] = ranker
        return self._eligible[fitted.name]

    def source(self, spec: CandidateSpec, nested: Nested) -> CandidateSource:
        """One source of candidates."""
        take, main = spec.take or TAKE, self.eligible(self.main)
        if spec.model is not None:
            other = self.model(spec.model)
            places = onto(self.main, other)
            return FromModel(other.name, self.eligible(other), places, list(self.spec.leave_out), take)
        if spec.popular is not None or spec.trending is not None:
            return self.window(spec.popular, spec.trending, take)
        if spec.like is not None:
            other = self.lookups.model(spec.like.model)
            return FromLike(f"like, {other.name}", other, onto(self.main, other), spec.like.last, take)
        if spec.together is not None:
            other = self.lookups.model(spec.together.model)
            _require_basket(other)
            return FromBasket(f"together, {other.name}", other, onto(self.main, other), spec.together.last, take)
        if spec.shelf is not None:
            inner = nested(spec.shelf)
            name = f"shelf {inner.spec.shelf}@{inner.number}"

            def listed(request: RecommendRequest) -> list[str]:
                return inner.answer(request).places.items

            return FromShelf(name, listed, take)
        return FromItems("items", main.fitted.train.items.rows(spec.items), take)

    def window(self, popular: PopularSpec | None, trending: PopularSpec | None, take: int) -> CandidateSource:
        """What is popular or trending. Raises InputError for a kind there is not, or data without times."""
        spec = popular or trending
        assert spec is not None
        name = "popular" if popular is not None else "trending"
        for kind in spec.kinds:
            if kind not in self.people.kinds:
                raise InputError(f"there is no kind {kind!r}{near(kind, self.people.kinds)}", where=name)
        source = FromWindow(f"{name}, {spec.days:g} days", spec, self.eligible(self.main), take)
        source.require_times()
        return source

    def scorer(self) -> Scorer:
        """What scores candidates."""
        blend = self.spec.score.blend if self.spec.score is not None else {}
        if not blend:
            return Scorer([(self.eligible(self.main), 1.0, None)])
        parts = [(self.model(name), weight) for name, weight in blend.items()]
        return Scorer([(self.eligible(each), weight, self._into(each)) for each, weight in parts])

    def last_scorer(self) -> Scorer:
        """What scores candidates for someone unknown."""
        return Scorer([(self.eligible(self.last), 1.0, self._into(self.last))])

    def _into(self, other: Fitted) -> np.ndarray | None:
        """The row of every item of the main model in another."""
        return None if other is self.main else other.train.items.rows(self.main.train.items.ids.to_pylist())

    def step(self, spec: FallbackSpec) -> CandidateSource | Lookalikes:
        """One step for someone unknown, but for models."""
        if spec.lookalikes is not None:
            return self._lookalikes(spec.lookalikes)
        if spec.items:
            return FromItems("items", self.main.train.items.rows(spec.items), len(spec.items))
        return self.window(spec.popular, spec.trending, TAKE)

    def _lookalikes(self, spec: LookalikesSpec) -> Lookalikes:
        """Encoded once for the same users: a changed column of an item is no reason to do it again."""
        key = self.main.name, tuple(spec.columns), spec.users
        kept = self.kept.get(key)
        if kept is None or kept[0] is not self.people.table.frame:
            lookalikes = Lookalikes.of(self.main, self.people.table, spec.columns, spec.users)
            kept = self.kept[key] = self.people.table.frame, lookalikes
        assert isinstance(kept[1], Lookalikes)
        return kept[1]

    def require_order(self) -> None:
        """Raise InputError where the order asks for what is not there."""
        wanted = self.spec.order.diversify if self.spec.order is not None else None
        if wanted is None:
            return
        if wanted.by is not None and wanted.by not in self.items.columns:
            text = f"there is no item column {wanted.by!r} to diversify by{near(wanted.by, self.items.columns)}"
            raise InputError(text, where="order.diversify.by")
        factors = factors_of(self.main.model)
        if wanted.by is None and (factors is None or not factors.item_tastes.shape[1]):
            text = f"{self.main.name} has no factors to measure likeness by; name an item column"
            raise InputError(text, where="order.diversify.by")


def build(parts: ShelfBuilder, number: int, nested: Nested) -> LoadedShelf:
    """A shelf that answers."""
    spec, items = parts.spec, parts.items
    items.require_columns(spec.show, "show")
    parts.require_order()
    rankers = parts.eligible(parts.main), parts.eligible(parts.last)
    scorer = parts.scorer()
    pool = None
    if not is_plain(spec):
        sources = [parts.source(each, nested) for each in spec.candidates]
        pool = Pool(sources, scorer, spec.order, items)
    before = spec.fallback[: _place_of_last(spec, parts.lookups)]
    slots = None
    if spec.slots != SlotsSpec():
        slots = slots_of(rankers[0], spec.slots, pins=True), slots_of(rankers[1], spec.slots)
    return LoadedShelf(
        spec=spec,
        number=number,
        model=rankers[0],
        fallback=rankers[1],
        items=items,
        dataset_id=parts.dataset_id,
        given=Pool([], scorer, spec.order, items, parts.last_scorer()),
        pool=pool,
        steps=tuple(parts.step(each) for each in before if each.model is None),
        slots=slots,
    )


def is_plain(spec: ShelfSpec) -> bool:
    """Whether one model ranks everything that may be listed."""
    [first, *more] = spec.candidates
    only = first.model is not None and first.take is None and not more
    return only and spec.order is None and (spec.score is None or spec.score.model == first.model)


def _place_of_last(spec: ShelfSpec, lookups: ShelfLookups) -> int:
    personal = []
    for place, step in enumerate(spec.fallback):
        if step.model is not None:
            loaded = lookups.model(step.model)
            if not loaded.model.personal:
                return place
            personal.append(loaded.name)
    why = f"{personal[0]} needs a history" if personal else "there is no model among the steps"
    raise InputError(f"no fallback serves someone unknown: {why}; name a popularity model", where="fallback")


def fallback_of(spec: ShelfSpec, lookups: ShelfLookups) -> Fitted:
    """The model that serves everyone. Raises InputError where there is none."""
    return lookups.model(str(spec.fallback[_place_of_last(spec, lookups)].model))


def _require_basket(other: Fitted) -> None:
    if other.model.personal and folding(other.model) is None:
        text = f"{other.name} ({other.model.family}) cannot be asked about a basket: it does not fold in"
        raise InputError(text, where="together.model")
