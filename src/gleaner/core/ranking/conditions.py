"""Conditions over the columns of a table: a subset of the ISO SQL search condition.

    condition   := conjunction { OR conjunction }
    conjunction := negation { AND negation }
    negation    := NOT negation | predicate
    predicate   := ( condition ) | column | column IS [NOT] NULL | column [NOT] IN ( literal, ... )
                 | 'text' [NOT] IN column      for a column of lists
                 | column [NOT] BETWEEN literal AND literal | column [NOT] LIKE 'pattern'
                 | operand comparison operand            with = <> != < <= > >=
    operand     := column | literal
    literal     := number | 'text' | TRUE | FALSE | DATE 'YYYY-MM-DD' | TIMESTAMP 'YYYY-MM-DD HH:MM:SS'    (UTC)

Keywords in any case; column names as they are, or in double quotes. As in SQL a comparison with a missing value is
unknown, and a row whose condition is unknown is not taken. A date compared with a time is its midnight, UTC.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any, Literal, NoReturn

import polars as pl

from gleaner.core.errors import InputError

MAX_LENGTH = 4000
MAX_DEPTH = 60
TOKEN = re.compile(
    r"""\s*(?:(?P<number>\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)|(?P<text>'(?:[^']|'')*')|(?P<quoted>"(?:[^"]|"")+")
    |(?P<word>[^\W\d]\w*)|(?P<sign><=|>=|<>|!=|[=<>(),-]))""",
    re.VERBOSE,
)
KEYWORDS = {"AND", "OR", "NOT", "IN", "BETWEEN", "LIKE", "IS", "NULL", "TRUE", "FALSE", "DATE", "TIMESTAMP"}
COMPARISONS = {"=": "eq", "<>": "ne", "!=": "ne", "<": "lt", "<=": "le", ">": "gt", ">=": "ge"}
Kind = Literal["number", "text", "flag", "date", "time", "list"]


@dataclass(frozen=True)
class _Token:
    kind: str
    value: str
    at: int


@dataclass(frozen=True)
class _Operand:
    """An expression with its kind; `column` names it where it is one."""

    expression: pl.Expr
    kind: Kind
    column: str | None
    at: int


def compile_condition(text: str, schema: dict[str, Any]) -> pl.Expr:
    """A condition as an expression over a table with these columns (name to Polars type).

    Raises InputError with the position for anything outside the language, an unknown column, or kinds that do not fit.
    """
    if len(text) > MAX_LENGTH:
        raise InputError(f"the condition is longer than {MAX_LENGTH} characters", where="where")
    return _Parser(text, schema).whole()


def _kind_of(dtype: Any) -> Kind | None:
    if dtype.is_numeric():
        return "number"
    kinds: dict[Any, Kind] = {
        pl.String: "text", pl.Boolean: "flag", pl.Date: "date", pl.Datetime: "time", pl.List: "list",
        pl.Categorical: "text", pl.Enum: "text",
    }  # fmt: skip
    return kinds.get(dtype.base_type())


def _as_times(left: _Operand, right: _Operand) -> tuple[_Operand, _Operand]:
    """A date beside a time becomes its midnight, UTC."""
    if {left.kind, right.kind} != {"date", "time"}:
        return left, right
    one, other = (
        each
        if each.kind == "time"
        else _Operand(each.expression.cast(pl.Datetime("us")).dt.replace_time_zone("UTC"), "time", each.column, each.at)
        for each in (left, right)
    )
    return one, other


class _Parser:
    """Recursive descent, one method a rule of the grammar."""

    def __init__(self, text: str, schema: dict[str, Any]) -> None:
        self.text, self.schema = text, schema
        self.tokens = self._scan()
        self.place = 0
        self.depth = 0

    def whole(self) -> pl.Expr:
        found = self._condition()
        if self._peek().kind != "end":
            self._fail(self._peek(), "the end of the condition, AND or OR")
        return found.fill_null(False)

    def _scan(self) -> list[_Token]:
        tokens, at, end = [], 0, len(self.text.rstrip())
        while at < end:
            found = TOKEN.match(self.text, at)
            if found is None or found.lastgroup is None:
                start = at + len(self.text[at:]) - len(self.text[at:].lstrip())
                raise InputError(
                    f"character {start + 1}: {self.text[start]!r} is not part of a condition", where="where"
                )
            kind = found.lastgroup
            value = found.group(kind)
            if kind == "word" and value.upper() in KEYWORDS:
                kind, value = "keyword", value.upper()
            tokens.append(_Token(kind, value, found.start(found.lastgroup)))
            at = found.end()
        return [*tokens, _Token("end", "", end)]

    def _peek(self, ahead: int = 0) -> _Token:
        return self.tokens[min(self.place + ahead, len(self.tokens) - 1)]

    def _take(self) -> _Token:
        token = self._peek()
        self.place += 1
        return token

    def _accept(self, *values: str) -> bool:
        if self._peek().kind in ("keyword", "sign") and self._peek().value in values:
            self.place += 1
            return True
        return False

    def _expect(self, value: str) -> None:
        if not self._accept(value):
            self._fail(self._peek(), value)

    def _fail(self, token: _Token, wanted: str) -> NoReturn:
        found = f"{token.value!r}" if token.kind != "end" else "the end"
        raise InputError(f"character {token.at + 1}: expected {wanted}, found {found}", where="where")

    def _condition(self) -> pl.Expr:
        self.depth += 1
        if self.depth > MAX_DEPTH:
            raise InputError(f"the condition is nested more than {MAX_DEPTH} deep", where="where")
        found = self._conjunction()
        while self._accept("OR"):
            found = found | self._conjunction()
        self.depth -= 1
        return found

    def _conjunction(self) -> pl.Expr:
        found = self._negation()
        while self._accept("AND"):
            found = found & self._negation()
        return found

    def _negation(self) -> pl.Expr:
        inverted = False
        while self._accept("NOT"):
            inverted = not inverted
        found = self._predicate()
        return ~found if inverted else found

    def _predicate(self) -> pl.Expr:
        if self._accept("("):
            found = self._condition()
            self._expect(")")
            return found
        left = self._operand()
        if self._peek().value in COMPARISONS and self._peek().kind == "sign":
            return self._comparison(left)
        if self._peek().value in ("IS", "NOT", "IN", "BETWEEN", "LIKE") and self._peek().kind == "keyword":
            return self._tested(left)
        if left.kind != "flag":
            self._fail(self._peek(), f"a comparison after {left.column or 'the literal'}, which is no flag")
        return left.expression

    def _comparison(self, left: _Operand) -> pl.Expr:
        sign = self._take().value
        right = self._operand()
        left, right = _as_times(left, right)
        self._require_like(left, right)
        return getattr(left.expression, COMPARISONS[sign])(right.expression)

    def _tested(self, left: _Operand) -> pl.Expr:
        if left.column is None and left.kind == "text":
            return self._within(left)
        if left.column is None:
            self._fail(self._peek(), "a comparison; only a column can be tested so")
        if self._accept("IS"):
            inverted = self._accept("NOT")
            self._expect("NULL")
            return left.expression.is_not_null() if inverted else left.expression.is_null()
        inverted = self._accept("NOT")
        if self._accept("IN"):
            found = self._listed(left)
        elif self._accept("BETWEEN"):
            low = self._literal_like(left)
            self._expect("AND")
            high = self._literal_like(left)
            found = left.expression.is_between(low.expression, high.expression)
        else:
            self._expect("LIKE")
            found = self._pattern(left)
        return ~found if inverted else found

    def _within(self, left: _Operand) -> pl.Expr:
        """'text' [NOT] IN a column of lists."""
        inverted = self._accept("NOT")
        self._expect("IN")
        right = self._operand()
        if right.kind != "list":
            raise InputError(
                f"character {right.at + 1}: expected a column of lists, as in 'text' IN column; "
                f"{right.column or 'this'} holds no lists",
                where="where",
            )
        found = right.expression.list.contains(left.expression)
        return ~found if inverted else found

    def _listed(self, left: _Operand) -> pl.Expr:
        self._expect("(")
        found = left.expression == self._literal_like(left).expression
        while self._accept(","):
            found = found | (left.expression == self._literal_like(left).expression)
        self._expect(")")
        return found

    def _pattern(self, left: _Operand) -> pl.Expr:
        token = self._take()
        if token.kind != "text" or left.kind != "text":
            self._fail(token, "a text pattern for a text column")
        pattern = token.value[1:-1].replace("''", "'")
        parts = {"%": ".*", "_": "."}
        return left.expression.str.contains("^(?s:" + "".join(parts.get(c, re.escape(c)) for c in pattern) + ")$")

    def _literal_like(self, left: _Operand) -> _Operand:
        right = self._operand()
        if right.column is not None:
            raise InputError(
                f"character {right.at + 1}: expected a literal, found column {right.column!r}", where="where"
            )
        left, right = _as_times(left, right)
        self._require_like(left, right)
        return right

    def _require_like(self, left: _Operand, right: _Operand) -> None:
        lists = [side.column for side in (left, right) if side.kind == "list"]
        if lists:
            raise InputError(
                f"character {right.at + 1}: column {lists[0]!r} holds lists; write 'text' IN {lists[0]}", where="where"
            )
        if left.kind != right.kind:
            names = [f"{side.column} ({side.kind})" if side.column else f"a {side.kind}" for side in (left, right)]
            raise InputError(f"character {right.at + 1}: {names[0]} cannot be compared with {names[1]}", where="where")

    def _operand(self) -> _Operand:
        token = self._take()
        if token.kind == "number" or (token.value == "-" and self._peek().kind == "number"):
            value = float(token.value if token.kind == "number" else "-" + self._take().value)
            return _Operand(pl.lit(value), "number", None, token.at)
        if token.kind == "text":
            return _Operand(pl.lit(token.value[1:-1].replace("''", "'")), "text", None, token.at)
        if token.kind == "keyword" and token.value in ("TRUE", "FALSE"):
            return _Operand(pl.lit(token.value == "TRUE"), "flag", None, token.at)
        if token.kind == "keyword" and token.value == "DATE":
            return self._date(token)
        if token.kind == "keyword" and token.value == "TIMESTAMP":
            return self._timestamp(token)
        if token.kind in ("word", "quoted"):
            return self._column(token)
        self._fail(token, "a column or a literal")

    def _date(self, token: _Token) -> _Operand:
        text = self._take()
        try:
            return _Operand(pl.lit(date.fromisoformat(text.value.strip("'"))), "date", None, token.at)
        except ValueError:
            self._fail(text, "a date such as '2026-03-01'")

    def _timestamp(self, token: _Token) -> _Operand:
        text = self._take()
        try:
            moment = datetime.fromisoformat(text.value.strip("'"))
        except ValueError:
            self._fail(text, "a moment such as '2026-03-01 09:30:00'")
        moment = moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)
        return _Operand(pl.lit(moment), "time", None, token.at)

    def _column(self, token: _Token) -> _Operand:
        name = token.value[1:-1].replace('""', '"') if token.kind == "quoted" else token.value
        if name not in self.schema:
            has = ", ".join(self.schema) or "none"
            raise InputError(f"character {token.at + 1}: there is no column {name!r}; there are: {has}", where="where")
        kind = _kind_of(self.schema[name])
        if kind is None:
            raise InputError(f"character {token.at + 1}: column {name!r} cannot be used in a condition", where="where")
        return _Operand(pl.col(name), kind, name, token.at)
