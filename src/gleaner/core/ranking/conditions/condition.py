"""Conditions over the columns of items, and over who asks: a subset of the ISO SQL search condition.

    condition   := conjunction { OR conjunction }
    conjunction := negation { AND negation }
    negation    := NOT negation | predicate
    predicate   := ( condition ) | flag | operand comparison operand            with = <> != < <= > >=
                 | column IS [NOT] NULL | column [NOT] IN ( given, ... ) | column [NOT] BETWEEN given AND given
                 | column [NOT] LIKE 'pattern' | text [NOT] IN list
                 | item [NOT] IN history( ['kind'] [, INTERVAL 'n' unit] )
    operand     := term { + term | - term | + interval | - interval }
    term        := column | given
    given       := number | 'text' | TRUE | FALSE | DATE 'YYYY-MM-DD' | TIMESTAMP 'YYYY-MM-DD HH:MM:SS' (UTC)
                 | now() | :user.COLUMN | :context.NAME
    interval    := INTERVAL 'n' MINUTE | HOUR | DAY | WEEK

Keywords in any case; column names as they are, or in double quotes. As in SQL a comparison with a missing value is
unknown, and a row whose condition is unknown is not taken. A date compared with a time is its midnight, UTC. A value
of `:context` is of the kind it is compared with. now() is the minute a request came in.
"""

from __future__ import annotations

import re
from collections import OrderedDict
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.errors import InputError
from gleaner.core.ranking.conditions.operands import HistoryTest, References, Schema
from gleaner.core.ranking.conditions.parser import Parser
from gleaner.core.ranking.conditions.tree import Budget, Node, expression_of, holds
from gleaner.core.ranking.conditions.values import Bindings, Kind

MAX_MASKS = 256
MASK_BYTES = 16 * 2**20
"""Bytes of masks that one condition keeps, and how many at most."""

MAX_KEY = 2000
"""Characters of the values of a request up to which a mask is kept for the next who brings the same."""

PLAIN_HISTORY = re.compile(r"item\s+(?:not\s+)?in\s+history\s*\([^()]*\)", re.IGNORECASE)


def compile_condition(text: str, schema: dict[str, Any]) -> pl.Expr:
    """A condition on items alone as an expression over a table with these columns (name to Polars type).

    Raises InputError with the position for anything outside the language, an unknown column, or kinds that do not fit.
    """
    return expression_of(Parser(text, Schema(schema)).whole())


@dataclass(frozen=True, eq=False)
class Conjunct:
    """One of the parts joined by AND, and what it needs of a request. tree: as it is where nothing of a request is put
    into it."""

    text: str
    tree: Node
    users: tuple[str, ...]
    context: tuple[str, ...]
    now: bool
    history: tuple[HistoryTest, ...]

    @property
    def is_fixed(self) -> bool:
        """Whether it is the same for every request."""
        return not (self.users or self.context or self.now or self.history)


class Condition:
    """A condition on items and on who asks, checked: its parts, and the kinds of the values a request may bring.

    Raises InputError as `compile_condition` does.
    """

    def __init__(self, text: str, schema: Schema) -> None:
        self.text, self.schema = text, schema
        self.parts: list[Conjunct] = []
        self.context: dict[str, Kind] = {}
        for part, parts, tree in Parser(text, schema).parts():
            self.parts.append(_part(part, parts, tree))
            for name, kind in parts.context.items():
                known = self.context.setdefault(name, kind)
                if known != kind:
                    text = f":context.{name} is a {known} in one place and a {kind} in another"
                    raise InputError(text, where="where")

    def mask(self, part: Conjunct, table: pl.DataFrame, bindings: Bindings, budget: Budget) -> np.ndarray:
        """Where a part holds: bool (table.height,). Raises InputError when the time is over."""
        tree = part.tree if part.is_fixed else Parser(part.text, self.schema, bindings).whole()
        return holds(tree, table, budget)


def _part(text: str, references: References, tree: Node) -> Conjunct:
    return Conjunct(
        text,
        tree,
        tuple(sorted(references.users)),
        tuple(sorted(references.context)),
        references.now,
        tuple(references.history),
    )


class Masks:
    """A condition over one table of items, one row for each that may be listed. What does not depend on the request is
    worked out once, within `budget`; what depends on a few of its values is kept for the next who bring the same."""

    def __init__(
        self, condition: Condition, table: pl.DataFrame, budget: Budget | None = None, mask_bytes: int = MASK_BYTES
    ) -> None:
        self.condition, self.table = condition, table
        self.max_kept = min(MAX_MASKS, mask_bytes // max(1, table.height))
        self.fixed = np.ones(table.height, dtype=bool)
        self.varying: list[Conjunct] = []
        self._kept: OrderedDict[tuple[Any, ...], np.ndarray] = OrderedDict()
        for part in condition.parts:
            if part.is_fixed:
                self.fixed &= condition.mask(part, table, Bindings(), budget or Budget())
            else:
                self.varying.append(part)

    def allowed(self, bindings: Bindings, *, context: bool = True, budget: Budget | None = None) -> np.ndarray:
        """Where the condition holds for a request: bool (table.height,), not to be written to. context: whether parts
        that name one count.

        Raises InputError naming a value of the request that does not fit, or when the time is over.
        """
        if not self.varying:
            return self.fixed
        budget = budget or Budget()
        mask = self.fixed.copy()
        for part in self.varying:
            if part.context and not context:
                continue
            if len(part.history) == 1 and _is_plain(part):
                mask &= self._by_history(part.history[0], bindings)
            elif part.history:
                mask &= self.condition.mask(part, self.table, bindings, budget)
            else:
                mask &= self._cached(part, bindings, budget)
        return mask

    def _by_history(self, test: HistoryTest, bindings: Bindings) -> np.ndarray:
        within = None if test.within_s is None else timedelta(seconds=test.within_s)
        mask = np.full(self.table.height, test.inverted)
        mask[bindings.history(test.kind, within)] = not test.inverted
        return mask

    def _cached(self, part: Conjunct, bindings: Bindings, budget: Budget) -> np.ndarray:
        brought = [bindings.user.get(name) for name in part.users]
        brought += [bindings.context.get(name) for name in part.context]
        key = (part.text, repr(brought), bindings.now if part.now else None)
        mask = self._kept.get(key)
        if mask is None:
            mask = self.condition.mask(part, self.table, bindings, budget)
            if len(key[1]) <= MAX_KEY and self.max_kept:
                self._kept[key] = mask
            while len(self._kept) > self.max_kept:
                self._kept.popitem(last=False)
        return mask


def _is_plain(part: Conjunct) -> bool:
    """Whether a part is one test of the history and nothing else, so that its rows say all."""
    return PLAIN_HISTORY.fullmatch(part.text) is not None
