"""Columns, literals and values of a request as they stand in a condition: what is compared, added and tested."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from typing import Any

import polars as pl

from gleaner.core.errors import near
from gleaner.core.ranking.conditions.tokens import Token, Tokens, fail, refuse
from gleaner.core.ranking.conditions.values import (
    DTYPES,
    Bindings,
    Kind,
    Operand,
    as_times,
    bound,
    kind_of,
    literal,
    moment_of,
)

MAX_TERMS = 50
"""Of one sum."""

MAX_OPERANDS = 200
"""Columns, literals and values of one condition, those that stand in the list of an IN not counted."""

UNITS = {"MINUTE": 60, "HOUR": 3600, "DAY": 86_400, "WEEK": 7 * 86_400}


@dataclass(frozen=True)
class HistoryTest:
    """Whether an item is among those the user has rows of. within_s: how long ago at most, None for ever."""

    kind: str | None
    within_s: float | None
    inverted: bool


@dataclass(frozen=True, eq=False)
class Schema:
    """What may be named: columns of items and of users with their types, kinds of interactions. Without `users` a
    condition is about items alone."""

    items: dict[str, Any]
    users: dict[str, Any] | None = None
    kinds: Sequence[str] | None = None


@dataclass(eq=False)
class References:
    """What was met on the way: names of `:user`, kinds of `:context`, whether now() and the history are asked for."""

    users: set[str] = field(default_factory=set)
    context: dict[str, Kind] = field(default_factory=dict)
    now: bool = False
    history: list[HistoryTest] = field(default_factory=list)


class Operands:
    """Reads operands, of one text, once. bindings: what a request brings; None while a condition is only checked."""

    def __init__(self, text: str, schema: Schema, bindings: Bindings | None = None) -> None:
        self.schema, self.bindings = schema, bindings
        self.tokens = Tokens(text)
        self.depth = 0
        self.operands = 0
        self.histories = 0
        self.references = References()

    def _pair(self, left: Operand, right: Operand) -> tuple[Operand, Operand]:
        """Two that are compared: a value of the request is of the other's kind, a date beside a time its midnight."""
        if left.kind == "any" and right.kind == "any":
            refuse(
                right.at,
                f"the kind of :context.{right.context} is not known here; compare it with a column or a literal",
            )
        left, right = self._settled(left, right.kind), self._settled(right, left.kind)
        return as_times(left, right)

    def _settled(self, operand: Operand, kind: Kind) -> Operand:
        if operand.kind != "any" or operand.context is None:
            return operand
        known = self.references.context.get(operand.context, "any")
        if known not in ("any", kind):
            refuse(operand.at, f":context.{operand.context} is a {known} before, and a {kind} here")
        self.references.context[operand.context] = kind
        value = None if self.bindings is None else self.bindings.context.get(operand.context)
        return bound(operand.context, kind, value, operand.at)

    def _require_person(self, at: int, what: str) -> None:
        if self.schema.users is None:
            refuse(at, f"{what} is of the person a shelf serves; here a condition is about items alone")

    def _count(self, at: int) -> None:
        self.operands += 1
        if self.operands > MAX_OPERANDS:
            refuse(at, f"a condition has more than {MAX_OPERANDS} columns and values; write IN (...) for many literals")

    def _operand(self, *, counted: bool = True) -> Operand:
        """A term, and what is added to it or taken from it."""
        if counted:
            self._count(self.tokens.peek().at)
        operand, terms = self._term(), 1
        while self.tokens.peek().kind == "sign" and self.tokens.peek().value in ("+", "-"):
            sign = self.tokens.take()
            terms += 1
            if terms > MAX_TERMS:
                refuse(sign.at, f"a sum has more than {MAX_TERMS} terms")
            self._count(sign.at)
            if self.tokens.peek().value == "INTERVAL":
                operand = self._shifted(operand, self._interval(), sign)
                continue
            operand, other = self._pair(operand, self._term())
            if (operand.kind, other.kind) != ("number", "number"):
                refuse(sign.at, f"only numbers can be added; these are a {operand.kind} and a {other.kind}")
            left, right = operand.expression, other.expression
            total = left + right if sign.value == "+" else left - right
            operand = replace(operand, expression=total, context=None, constant=None)
        return operand

    def _shifted(self, operand: Operand, interval: timedelta, sign: Token) -> Operand:
        if operand.kind not in ("date", "time"):
            refuse(sign.at, f"an interval is added to a date or a time, and this is a {operand.kind}")
        whole = self._as_time(operand) if operand.kind == "date" and interval.seconds else operand
        shift = pl.lit(interval if sign.value == "+" else -interval)
        return replace(whole, expression=whole.expression + shift, constant=None)

    def _as_time(self, operand: Operand) -> Operand:
        return as_times(operand, Operand(pl.lit(None), "time", None, operand.at))[0]

    def _interval(self) -> timedelta:
        """INTERVAL 'n' MINUTE, HOUR, DAY or WEEK."""
        self.tokens.expect("INTERVAL")
        amount, unit = self.tokens.take(), self.tokens.take()
        name = unit.value.upper().removesuffix("S")
        if amount.kind != "text" or not re.fullmatch(r"'\d{1,5}'", amount.value):
            fail(amount, "a whole number in quotes, as in INTERVAL '30' DAY")
        if name not in UNITS:
            fail(unit, f"one of {', '.join(UNITS)}")
        return timedelta(seconds=int(amount.value.strip("'")) * UNITS[name])

    def _term(self) -> Operand:
        if self.tokens.calls("now"):
            return self._now()
        token = self.tokens.take()
        if token.kind == "number" or (token.value == "-" and self.tokens.peek().kind == "number"):
            value = plain(token) if token.kind == "number" else -float(self.tokens.take().value)
            return literal(value, "number", token.at)
        if token.kind == "text":
            return literal(plain(token), "text", token.at)
        if token.kind == "keyword" and token.value in ("TRUE", "FALSE"):
            return literal(token.value == "TRUE", "flag", token.at)
        if token.kind == "keyword" and token.value in ("DATE", "TIMESTAMP"):
            return self._moment(token)
        if token.kind == "parameter":
            return self._parameter(token)
        if token.kind in ("word", "quoted"):
            return self._column(token)
        fail(token, "a column or a literal")

    def _now(self) -> Operand:
        token = self.tokens.take()
        self.tokens.expect("(")
        self.tokens.expect(")")
        self.references.now = True
        now = None if self.bindings is None else self.bindings.now
        return Operand(pl.lit(now, dtype=DTYPES["time"]), "time", None, token.at)

    def _moment(self, token: Token) -> Operand:
        text = self.tokens.take()
        plain = text.value.strip("'")
        try:
            if token.value == "DATE":
                return literal(date.fromisoformat(plain), "date", text.at)
            return literal(moment_of(plain), "time", text.at)
        except ValueError:
            whole = "a moment such as '2026-03-01 09:30:00'"
            fail(text, "a date such as '2026-03-01'" if token.value == "DATE" else whole)

    def _parameter(self, token: Token) -> Operand:
        of, _, name = token.value[1:].partition(".")
        self._require_person(token.at, token.value)
        if of == "context":
            self.references.context.setdefault(name, "any")
            return bound(name, "any", None, token.at)
        if of != "user":
            refuse(token.at, f"{token.value!r} is neither :user.COLUMN nor :context.NAME")
        users = self.schema.users or {}
        if name not in users:
            known = [each for each in users if each != "id"]
            refuse(token.at, f"there is no user column {name!r}{near(name, known)}")
        kind = kind_of(users[name])
        if kind is None:
            refuse(token.at, f"user column {name!r} cannot be used in a condition")
        self.references.users.add(name)
        value = None if self.bindings is None else self.bindings.user.get(name)
        if kind == "list":
            entries = None if value is None else list(value)
            return Operand(pl.lit(None), kind, token.value, token.at, values=entries, brought=True)
        return Operand(pl.lit(value, dtype=DTYPES[kind]), kind, token.value, token.at, brought=True)

    def _column(self, token: Token) -> Operand:
        name = token.value[1:-1].replace('""', '"') if token.kind == "quoted" else token.value
        if self.tokens.peek().value == "(" and name not in self.schema.items:
            refuse(token.at, f"there is no function {name!r}; there are: now, and history after `item IN`")
        if name not in self.schema.items:
            refuse(token.at, f"there is no column {name!r}{near(name, self.schema.items)}")
        kind = kind_of(self.schema.items[name])
        if kind is None:
            refuse(token.at, f"column {name!r} cannot be used in a condition")
        return Operand(pl.col(name), kind, name, token.at)


def plain(token: Token) -> float | str:
    """The value of a number or a text as it is written."""
    return float(token.value) if token.kind == "number" else token.value[1:-1].replace("''", "'")
