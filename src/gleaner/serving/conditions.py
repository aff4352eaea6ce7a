"""Conditions of a shelf and of a request, over the items of the model that ranks, and what they need of who asks."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import cached_property
from time import perf_counter, process_time

import numpy as np
import polars as pl

from gleaner.core.data.live import Kept, LiveRow, LiveRows
from gleaner.core.data.past import PastRows
from gleaner.core.data.tables.row_features import lined_up
from gleaner.core.data.untrained_cells import UntrainedHistory
from gleaner.core.errors import InputError, UnknownNameError, near
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import folding, knowing_columns
from gleaner.core.preparation.live_cells import LiveReading
from gleaner.core.ranking.conditions.condition import Condition, Masks
from gleaner.core.ranking.conditions.operands import Schema
from gleaner.core.ranking.conditions.tree import Budget
from gleaner.core.ranking.conditions.values import Bindings
from gleaner.serving.person import NOBODY, Person
from gleaner.serving.tables import ItemTable
from gleaner.wire.shelves.shelf import RecommendRequest, RequestsSpec

KEPT = 64
REQUEST_MASK_BYTES, REQUEST_BYTES = 2**20, 32 * 2**20
"""Conditions of requests that are kept with their masks: how many, bytes of the masks of one, and of all of them."""

LOADING_S = 10.0
"""Longest time that working out a condition of a shelf's file may take."""

REQUEST_S = 0.05
"""Longest time that working out the condition of a request may take: whoever asks must not hold up others."""

KEPT_PEOPLE, KEPT_ROWS = 4096, 400_000
"""Users with events that are kept, of each model of a shelf, and rows of them all."""


@dataclass(frozen=True, eq=False)
class KnownUsers:
    """What a shelf knows of who asks: columns of the user table, the rows of the version it was trained on, and events
    since. events_upto: the number of the last event that is among those rows."""

    table: ItemTable
    kinds: list[str]
    past: Callable[[], PastRows]
    live: LiveRows
    events_upto: int = 0

    def touched(self, request: RecommendRequest, n: int) -> list[str]:
        """The items touched last, the newest first: those named in the request, or else of events, then of the
        version."""
        if request.recent:
            return list(dict.fromkeys(reversed(request.recent)))[:n]
        items = list(dict.fromkeys(row.item for row in reversed(self.live.of(request.user))))[:n]
        if len(items) < n and request.user is not None:
            past = self.past()
            items += past.items_map.take(past.last_of(request.user, n))
        return list(dict.fromkeys(items))[:n]

    def columns_of(self, user: str | None) -> dict[str, object]:
        """The row of a user; empty for someone the table does not have."""
        row = None if user is None else self.table.row_of(user)
        return {} if row is None or self.table.frame is None else self.table.frame.row(row, named=True)


@dataclass(eq=False)
class Eligible:
    """The items of one model that a shelf may list."""

    fitted: Fitted
    items: ItemTable
    people: KnownUsers
    condition: Condition | None
    measure: LiveReading = field(default_factory=LiveReading)
    requests: RequestsSpec = field(default_factory=RequestsSpec)
    _of_requests: OrderedDict[str, Masks] = field(default_factory=OrderedDict)
    _n_known_rows: int = 0
    _known: OrderedDict[str, tuple[tuple[Kept, ...], Person]] = field(default_factory=OrderedDict)

    @cached_property
    def _table(self) -> pl.DataFrame:
        assert self.items.frame is not None
        return lined_up(self.items.frame, self.fitted.train.items)[0]

    @cached_property
    def masks(self) -> Masks | None:
        """Those of the shelf's own condition."""
        return None if self.condition is None else Masks(self.condition, self._table, loading())

    @cached_property
    def n_fixed(self) -> int:
        """Items that hold what depends on nothing."""
        n_items = len(self.fitted.train.items)
        return n_items if self.masks is None else int(np.count_nonzero(self.masks.fixed))

    @cached_property
    def varies(self) -> bool:
        """Whether the shelf's condition depends on who asks."""
        return self.masks is not None and bool(self.masks.varying)

    @cached_property
    def rows_of_past(self) -> np.ndarray:
        """The model's row of every item of the past, -1 where it has none."""
        return self.fitted.train.items.rows(self.people.past().items_map.ids.to_pylist())

    def allowed(self, request: RecommendRequest) -> np.ndarray | None:
        """What may be listed for a request: bool (n_items,), not to be written to; None for everything.

        Raises InputError for a condition or a value of the request that does not fit.
        """
        if request.where is None and not self.varies:
            # nothing to be worked out: who asks need not even be looked up
            return None if self.masks is None else self.masks.fixed
        bindings = self.bindings(request)
        holds = None if self.masks is None else self.masks.allowed(bindings, budget=loading())
        if request.where is not None:
            if self.items.frame is not None:
                _ = self._table  # its rows are lined up once, not in the time of whoever asks first
            budget = Budget(REQUEST_S, perf_counter, process_time)
            more = self._masks_of(request.where, budget).allowed(bindings, budget=budget)
            holds = more if holds is None else holds & more
        return holds

    def bindings(self, request: RecommendRequest) -> Bindings:
        """What a request brings."""
        now = datetime.now(UTC).replace(second=0, microsecond=0)

        def history(kind: str | None, within: timedelta | None) -> np.ndarray:
            since = None if within is None else now - within
            rows = self.rows_of_past[self.people.past().items_of(request.user, kind, since)]
            if touched := self.people.live.items_of(request.user, kind, since):
                rows = np.concatenate([rows, self.fitted.train.items.rows(touched)])
            return rows[rows >= 0]

        return Bindings(self.people.columns_of(request.user), request.context, now, history)

    def person(self, request: RecommendRequest) -> Person:
        """Return who asks, in the rows of the model. Users who are folded in are cached until their next event."""
        user, rows = request.user, self.people.live.of_user(request.user)
        untrained = self.fitted.untrained.history(user, self.fitted.train.items)
        columns = None
        if user is not None:
            columns = self._columns_of(user, bool(request.recent or rows or len(untrained.rows)))
        is_folded = bool(rows or len(untrained.rows) or columns is not None)
        if request.recent or user is None or not is_folded:
            return self._person(request, rows, untrained, columns)
        cached = self._known.get(user)
        # a table that changed makes another shelf, and a version that was cleaned other cells
        if cached is None or cached[0] is not rows or cached[1].untrained.source is not untrained.source:
            cached = rows, self._person(request, rows, untrained, columns)
            before = self._known.get(user)
            self._n_known_rows += len(rows) - (0 if before is None else len(before[0]))
            self._known[user] = cached
            while len(self._known) > KEPT_PEOPLE or (self._n_known_rows > KEPT_ROWS and len(self._known) > 1):
                self._n_known_rows -= len(self._known.popitem(last=False)[1][0])
        return cached[1]

    def _person(
        self,
        request: RecommendRequest,
        rows: tuple[Kept, ...],
        untrained: UntrainedHistory,
        columns: pl.DataFrame | None,
    ) -> Person:
        cells = self._cells(rows) if rows else {}
        person = Person.of(self.fitted, request.user, request.recent, cells, request.values, untrained)
        person.columns, person.latest = columns, self._latest(rows, request.recent)
        if rows:
            dropped = self.fitted.train.items.rows(self.measure.dropped(LiveRow(*row) for row in rows))
            person.dropped_live = dropped[dropped >= 0]
        return person

    @cached_property
    def _folds_columns(self) -> bool:
        """Whether the model folds in rows of the user table as it stands, which may have lost a column since."""
        knows, frame = knowing_columns(self.fitted.model, "users"), self.people.table.frame
        if knows is None or frame is None:
            return False
        try:
            knows.factors_of_rows("users", frame[:1])
        except InputError:
            return False
        return True

    def _columns_of(self, user: str, is_fresh: bool) -> pl.DataFrame | None:
        """Their row of the user table, for a model that folds it in; None where there is none, or training knew them
        and nothing came since."""
        if not self._folds_columns or (not is_fresh and self.fitted.train.users.row(user) is not None):
            return None
        row, frame = self.people.table.row_of(user), self.people.table.frame
        return None if row is None or frame is None else frame[row : row + 1]

    def _latest(self, rows: tuple[Kept, ...], recent: list[str]) -> np.ndarray:
        """Items of events, then those of the request, for a model to which their order matters: int32."""
        folds = folding(self.fitted.model)
        if folds is None or not folds.reads_order:
            return NOBODY
        items = self.fitted.train.items.rows([*(LiveRow(*row).item for row in rows), *recent])
        return items[items >= 0]

    def _cells(self, rows: tuple[Kept, ...]) -> dict[str, float]:
        return self.measure.cells(LiveRow(*row) for row in rows)

    def _masks_of(self, where: str, budget: Budget) -> Masks:
        masks = self._of_requests.get(where)
        if masks is None:
            condition = condition_of(where, self.items, self.people)
            require_allowed(condition, self.requests)
            masks = Masks(condition, self._table, budget, REQUEST_MASK_BYTES)
            self._of_requests[where] = masks
            n_items = self._table.height
            most = min(KEPT, max(1, REQUEST_BYTES // max(1, n_items * (1 + masks.max_kept))))
            while len(self._of_requests) > most:
                self._of_requests.popitem(last=False)
        return masks


def warm_conditions(items: ItemTable) -> None:
    """Work one condition out over one row: what a process prepares for its first is not of a request's time."""
    if items.frame is not None:
        condition = Condition("id > :context.first", Schema(dict(items.frame.schema), {}, []))
        Masks(condition, items.frame[:1]).allowed(Bindings(context={"first": ""}))


def loading() -> Budget:
    """The time that a condition of a shelf's file may take."""
    return Budget(LOADING_S, perf_counter, process_time)


def require_allowed(condition: Condition, allowed: RequestsSpec) -> None:
    """Raise InputError unless the condition of a request names of the person only what the shelf's file allows: by
    asking again and again whoever may ask could find out the rest."""
    named = {name for part in condition.parts for name in part.users} - set(allowed.user_columns)
    if named:
        has = ", ".join(allowed.user_columns) or "none"
        text = f"a request may not name the user column {min(named)!r} here; those it may, by the shelf's file: {has}"
        raise InputError(text, where="where")
    if not allowed.history and any(part.history for part in condition.parts):
        raise InputError(
            "a request may not test the history here; `requests.history` in the shelf's file", where="where"
        )


def require_user_columns(allowed: RequestsSpec, people: KnownUsers) -> None:
    """Raise UnknownNameError for a column that requests may name and users do not have."""
    for name in allowed.user_columns:
        if people.table.frame is None or name not in people.table.columns:
            text = f"there is no user column {name!r}{near(name, people.table.columns)}"
            raise UnknownNameError(text, where="requests.user_columns")


def condition_of(where: str, items: ItemTable, people: KnownUsers) -> Condition:
    """A condition checked against the tables. Raises InputError with the place of what does not fit."""
    if items.frame is None:
        raise InputError("a condition needs columns, and the dataset has no table of items", where="where")
    users = {} if people.table.frame is None else dict(people.table.frame.schema)
    return Condition(where, Schema(dict(items.frame.schema), users, people.kinds))
