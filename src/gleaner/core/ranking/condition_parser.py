"""From the text of a condition to an expression: recursive descent, one method a rule of the grammar in conditions."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from typing import Any

import polars as pl

from gleaner.core.errors import InputError
from gleaner.core.ranking.condition_tokens import Token, Tokens, fail, refuse
from gleaner.core.ranking.condition_values import (
    DTYPES,
    Bindings,
    Kind,
    Operand,
    as_times,
    bound,
    kind_of,
    moment_of,
    require_like,
)

MAX_DEPTH = 60
MAX_TERMS = 50
"""Of one sum: working it out takes longer than in proportion."""

COMPARISONS = {"=": "eq", "<>": "ne", "!=": "ne", "<": "lt", "<=": "le", ">": "gt", ">=": "ge"}
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
class Found:
    """What was met on the way: names of `:user`, kinds of `:context`, whether now() and the history are asked for."""

    users: set[str] = field(default_factory=set)
    context: dict[str, Kind] = field(default_factory=dict)
    now: bool = False
    history: list[HistoryTest] = field(default_factory=list)
    patterns: int = 0


class Parser:
    """One text, once. bindings: what a request brings; None while a condition is only checked."""

    def __init__(self, text: str, schema: Schema, bindings: Bindings | None = None) -> None:
        self.schema, self.bindings = schema, bindings
        self.tokens = Tokens(text)
        self.depth = 0
        self.found = Found()

    def whole(self) -> pl.Expr:
        """The condition, false where it is unknown."""
        found = self.condition()
        self._end()
        return found.fill_null(False)

    def parts(self) -> list[tuple[str, Found]]:
        """The texts of what is joined by AND at the top, each with what it needs; all in one where OR joins them."""
        found: list[tuple[str, Found]] = []
        start = self.tokens.peek().at
        while True:
            self.found = Found()
            self._negation()
            stop = self.tokens.peek().at
            found.append((self.tokens.text[start:stop].strip(), self.found))
            if not self.tokens.accept("AND"):
                break
            start = self.tokens.peek().at
        if self.tokens.peek().value == "OR" and self.tokens.peek().kind == "keyword":
            again = Parser(self.tokens.text, self.schema, self.bindings)
            again.whole()
            return [(self.tokens.text, again.found)]
        self._end()
        return found

    def _end(self) -> None:
        if self.tokens.peek().kind != "end":
            fail(self.tokens.peek(), "the end of the condition, AND or OR")

    def condition(self) -> pl.Expr:
        """What stands in brackets, or all."""
        self.depth += 1
        if self.depth > MAX_DEPTH:
            raise InputError(f"the condition is nested more than {MAX_DEPTH} deep", where="where")
        found = self._conjunction()
        while self.tokens.accept("OR"):
            found = found | self._conjunction()
        self.depth -= 1
        return found

    def _conjunction(self) -> pl.Expr:
        found = self._negation()
        while self.tokens.accept("AND"):
            found = found & self._negation()
        return found

    def _negation(self) -> pl.Expr:
        inverted = False
        while self.tokens.accept("NOT"):
            inverted = not inverted
        found = self._predicate()
        return ~found if inverted else found

    def _predicate(self) -> pl.Expr:
        if self.tokens.accept("("):
            found = self.condition()
            self.tokens.expect(")")
            return found
        if self._asks_history():
            return self._in_history()
        left = self._operand()
        token = self.tokens.peek()
        if token.value in COMPARISONS and token.kind == "sign":
            return self._comparison(left)
        if token.value in ("IS", "NOT", "IN", "BETWEEN", "LIKE") and token.kind == "keyword":
            return self._tested(left)
        left = self._settled(left, "flag")
        if left.kind != "flag":
            fail(token, f"a comparison after {left.column or 'the literal'}, which is no flag")
        return left.expression

    def _comparison(self, left: Operand) -> pl.Expr:
        sign = self.tokens.take().value
        left, right = self._pair(left, self._operand())
        require_like(left, right)
        return getattr(left.expression, COMPARISONS[sign])(right.expression)

    def _pair(self, left: Operand, right: Operand) -> tuple[Operand, Operand]:
        """Two that are compared: a value of the request is of the other's kind, a date beside a time its midnight."""
        if left.kind == "any" and right.kind == "any":
            refuse(right.at, f"what :context.{right.context} is cannot be told; compare it with a column or a literal")
        left, right = self._settled(left, right.kind), self._settled(right, left.kind)
        return as_times(left, right)

    def _settled(self, operand: Operand, kind: Kind) -> Operand:
        if operand.kind != "any" or operand.context is None:
            return operand
        known = self.found.context.get(operand.context, "any")
        if known not in ("any", kind):
            refuse(operand.at, f":context.{operand.context} is a {known} before, and a {kind} here")
        self.found.context[operand.context] = kind
        value = None if self.bindings is None else self.bindings.context.get(operand.context)
        return bound(operand.context, kind, value, operand.at)

    def _tested(self, left: Operand) -> pl.Expr:
        if left.column is None and left.context is None and left.kind == "text":
            inverted = self.tokens.accept("NOT")
            self.tokens.expect("IN")
            return self._within(left, inverted=inverted)
        if left.column is None and left.context is None:
            fail(self.tokens.peek(), "a comparison; only a column can be tested so")
        if self.tokens.accept("IS"):
            inverted = self.tokens.accept("NOT")
            self.tokens.expect("NULL")
            missing = self._missing(left)
            return ~missing if inverted else missing
        inverted = self.tokens.accept("NOT")
        if self.tokens.accept("IN"):
            if self.tokens.peek().value != "(":
                return self._within(self._settled(left, "text"), inverted=inverted)
            found = self._listed(left)
        elif self.tokens.accept("BETWEEN"):
            above, low = self._pair(left, self._given())
            require_like(above, low)
            self.tokens.expect("AND")
            below, high = self._pair(left, self._given())
            require_like(below, high)
            found = (above.expression >= low.expression) & (below.expression <= high.expression)
        else:
            self.tokens.expect("LIKE")
            self.found.patterns += 1
            found = self._pattern(self._settled(left, "text"))
        return ~found if inverted else found

    def _missing(self, operand: Operand) -> pl.Expr:
        if operand.context is not None:
            return pl.lit(self.bindings is None or self.bindings.context.get(operand.context) is None)
        if operand.brought and operand.kind == "list":
            return pl.lit(operand.values is None)
        return operand.expression.is_null()

    def _within(self, left: Operand, *, inverted: bool) -> pl.Expr:
        """A text [NOT] IN a column of lists, or in a list of the user or the request."""
        right = self._settled(self._operand(), "list")
        if right.kind != "list":
            name = right.column or "this"
            refuse(right.at, f"expected a column of lists, as in 'text' IN column; {name} holds no lists")
        if left.kind != "text":
            refuse(left.at, f"lists hold texts, and {left.column or 'this'} is a {left.kind}")
        if not right.brought:
            found = right.expression.list.contains(left.expression)
        elif right.values is None:
            found = pl.lit(None, dtype=pl.Boolean)
        else:
            found = left.expression.is_in(right.values)
        return ~found if inverted else found

    def _listed(self, left: Operand) -> pl.Expr:
        self.tokens.expect("(")
        found = self._same(left)
        while self.tokens.accept(","):
            found = found | self._same(left)
        self.tokens.expect(")")
        return found

    def _same(self, left: Operand) -> pl.Expr:
        one, other = self._pair(left, self._given())
        require_like(one, other)
        return one.expression == other.expression

    def _given(self) -> Operand:
        """A literal, or what the request brings."""
        right = self._operand()
        if right.column is not None and not right.brought:
            refuse(right.at, f"expected a literal, found column {right.column!r}")
        return right

    def _pattern(self, left: Operand) -> pl.Expr:
        token = self.tokens.take()
        if token.kind != "text" or left.kind != "text":
            fail(token, "a text pattern for a text column")
        pattern = token.value[1:-1].replace("''", "'")
        parts = {"%": ".*", "_": "."}
        return left.expression.str.contains("^(?s:" + "".join(parts.get(c, re.escape(c)) for c in pattern) + ")$")

    def _asks_history(self) -> bool:
        token = self.tokens.peek()
        ahead = 2 if self.tokens.peek(1).value == "NOT" else 1
        is_item = token.kind == "word" and token.value.lower() == "item"
        return is_item and self.tokens.peek(ahead).value == "IN" and self.tokens.calls("history", ahead + 1)

    def _in_history(self) -> pl.Expr:
        """item [NOT] IN history(['kind'] [, INTERVAL 'n' unit])."""
        self.tokens.take()
        inverted = self.tokens.accept("NOT")
        self.tokens.expect("IN")
        at = self.tokens.take().at
        self._require_person(at, "history()")
        self.tokens.expect("(")
        kind, within = None, None
        if self.tokens.peek().kind == "text":
            kind = self._kind()
            if self.tokens.accept(","):
                within = self._interval()
        elif self.tokens.peek().value == "INTERVAL":
            within = self._interval()
        self.tokens.expect(")")
        self.found.history.append(HistoryTest(kind, within.total_seconds() if within else None, inverted))
        rows = (self.bindings or Bindings()).history(kind, within)
        found = pl.int_range(pl.len()).is_in(pl.Series(rows, dtype=pl.Int64).implode())
        return ~found if inverted else found

    def _kind(self) -> str:
        token = self.tokens.take()
        kind = token.value[1:-1].replace("''", "'")
        if self.schema.kinds is not None and kind not in self.schema.kinds:
            has = ", ".join(self.schema.kinds) or "none"
            refuse(token.at, f"there is no kind {kind!r} of interactions; there are: {has}")
        return kind

    def _require_person(self, at: int, what: str) -> None:
        if self.schema.users is None:
            refuse(at, f"{what} is of the person a shelf serves; here a condition is about items alone")

    def _operand(self) -> Operand:
        """A term, and what is added to it or taken from it."""
        found, terms = self._term(), 1
        while self.tokens.peek().kind == "sign" and self.tokens.peek().value in ("+", "-"):
            sign = self.tokens.take()
            terms += 1
            if terms > MAX_TERMS:
                refuse(sign.at, f"a sum has more than {MAX_TERMS} terms")
            if self.tokens.peek().value == "INTERVAL":
                found = self._shifted(found, self._interval(), sign)
                continue
            found, other = self._pair(found, self._term())
            if (found.kind, other.kind) != ("number", "number"):
                refuse(sign.at, f"only numbers can be added; these are a {found.kind} and a {other.kind}")
            total = found.expression + other.expression if sign.value == "+" else found.expression - other.expression
            found = replace(found, expression=total, context=None)
        return found

    def _shifted(self, found: Operand, interval: timedelta, sign: Token) -> Operand:
        if found.kind not in ("date", "time"):
            refuse(sign.at, f"an interval is added to a date or a time, and this is a {found.kind}")
        whole = self._as_time(found) if found.kind == "date" and interval.seconds else found
        shift = pl.lit(interval if sign.value == "+" else -interval)
        return replace(whole, expression=whole.expression + shift)

    def _as_time(self, found: Operand) -> Operand:
        return as_times(found, Operand(pl.lit(None), "time", None, found.at))[0]

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
            value = float(token.value if token.kind == "number" else "-" + self.tokens.take().value)
            return Operand(pl.lit(value), "number", None, token.at)
        if token.kind == "text":
            return Operand(pl.lit(token.value[1:-1].replace("''", "'")), "text", None, token.at)
        if token.kind == "keyword" and token.value in ("TRUE", "FALSE"):
            return Operand(pl.lit(token.value == "TRUE"), "flag", None, token.at)
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
        self.found.now = True
        now = None if self.bindings is None else self.bindings.now
        return Operand(pl.lit(now, dtype=DTYPES["time"]), "time", None, token.at)

    def _moment(self, token: Token) -> Operand:
        text = self.tokens.take()
        plain = text.value.strip("'")
        try:
            if token.value == "DATE":
                return Operand(pl.lit(date.fromisoformat(plain)), "date", None, token.at)
            return Operand(pl.lit(moment_of(plain)), "time", None, token.at)
        except ValueError:
            whole = "a moment such as '2026-03-01 09:30:00'"
            fail(text, "a date such as '2026-03-01'" if token.value == "DATE" else whole)

    def _parameter(self, token: Token) -> Operand:
        of, _, name = token.value[1:].partition(".")
        self._require_person(token.at, token.value)
        if of == "context":
            self.found.context.setdefault(name, "any")
            return bound(name, "any", None, token.at)
        if of != "user":
            refuse(token.at, f"{token.value!r} is neither :user.COLUMN nor :context.NAME")
        users = self.schema.users or {}
        if name not in users:
            has = ", ".join(each for each in users if each != "id") or "none"
            refuse(token.at, f"there is no user column {name!r}; there are: {has}")
        kind = kind_of(users[name])
        if kind is None:
            refuse(token.at, f"user column {name!r} cannot be used in a condition")
        self.found.users.add(name)
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
            has = ", ".join(self.schema.items) or "none"
            refuse(token.at, f"there is no column {name!r}; there are: {has}")
        kind = kind_of(self.schema.items[name])
        if kind is None:
            refuse(token.at, f"column {name!r} cannot be used in a condition")
        return Operand(pl.col(name), kind, name, token.at)
