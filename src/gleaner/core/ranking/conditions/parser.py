"""From the text of a condition to an expression: recursive descent, one method a rule of the grammar in conditions."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import polars as pl

from gleaner.core.errors import InputError, near
from gleaner.core.ranking.conditions.operands import HistoryTest, Operands, References, plain
from gleaner.core.ranking.conditions.tokens import fail, refuse
from gleaner.core.ranking.conditions.tree import Joined, Node, Not, RowTest, Test
from gleaner.core.ranking.conditions.values import DTYPES, Bindings, Kind, Operand, require_like

MAX_DEPTH = 60
MAX_WILDCARDS = 20
"""Of one text pattern: each makes matching slower."""

MAX_HISTORIES = 10
"""Tests of a history in one condition: each looks a user's rows up."""

COMPARISONS = {"=": "eq", "<>": "ne", "!=": "ne", "<": "lt", "<=": "le", ">": "gt", ">=": "ge"}


class Parser(Operands):
    """One text, once. bindings: what a request brings; None while a condition is only checked."""

    def whole(self) -> Node:
        """The condition as a tree."""
        condition = self.condition()
        self._end()
        return condition

    def parts(self) -> list[tuple[str, References, Node]]:
        """The texts of what AND joins at the top, with what each needs and its tree; all in one where OR joins them."""
        conjuncts: list[tuple[str, References, Node]] = []
        start = self.tokens.peek().at
        while True:
            self.references = References()
            tree = self._negation()
            stop = self.tokens.peek().at
            conjuncts.append((self.tokens.text[start:stop].strip(), self.references, tree))
            if not self.tokens.accept("AND"):
                break
            start = self.tokens.peek().at
        if self.tokens.peek().value == "OR" and self.tokens.peek().kind == "keyword":
            again = Parser(self.tokens.text, self.schema, self.bindings)
            tree = again.whole()
            return [(self.tokens.text, again.references, tree)]
        self._end()
        return conjuncts

    def _end(self) -> None:
        if self.tokens.peek().kind != "end":
            fail(self.tokens.peek(), "the end of the condition, AND or OR")

    def condition(self) -> Node:
        """What stands in brackets, or all."""
        self.depth += 1
        if self.depth > MAX_DEPTH:
            raise InputError(f"the condition is nested more than {MAX_DEPTH} deep", where="where")
        joined = self._joined("OR", self._conjunction)
        self.depth -= 1
        return joined

    def _conjunction(self) -> Node:
        return self._joined("AND", self._negation)

    def _joined(self, word: str, part: Callable[[], Node]) -> Node:
        parts = [part()]
        while self.tokens.accept(word):
            parts.append(part())
        return parts[0] if len(parts) == 1 else Joined(tuple(parts), by_all=word == "AND")

    def _negation(self) -> Node:
        inverted = False
        while self.tokens.accept("NOT"):
            inverted = not inverted
        predicate = self._predicate()
        return Not(predicate) if inverted else predicate

    def _predicate(self) -> Node:
        if self.tokens.accept("("):
            condition = self.condition()
            self.tokens.expect(")")
            return condition
        if self._asks_history():
            return self._in_history()
        left = self._operand()
        token = self.tokens.peek()
        if token.value in COMPARISONS and token.kind == "sign":
            return Test(self._comparison(left))
        if token.value in ("IS", "NOT", "IN", "BETWEEN", "LIKE") and token.kind == "keyword":
            return Test(self._tested(left))
        left = self._settled(left, "flag")
        if left.kind != "flag":
            fail(token, f"a comparison after {left.column or 'the literal'}, which is no flag")
        return Test(left.expression)

    def _comparison(self, left: Operand) -> pl.Expr:
        sign = self.tokens.take().value
        left, right = self._pair(left, self._operand())
        require_like(left, right)
        return getattr(left.expression, COMPARISONS[sign])(right.expression)

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
            listed = self._listed(left)
        elif self.tokens.accept("BETWEEN"):
            above, low = self._pair(left, self._given())
            require_like(above, low)
            self.tokens.expect("AND")
            below, high = self._pair(left, self._given())
            require_like(below, high)
            listed = (above.expression >= low.expression) & (below.expression <= high.expression)
        else:
            self.tokens.expect("LIKE")
            listed = self._pattern(self._settled(left, "text"))
        return ~listed if inverted else listed

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
            within = right.expression.list.contains(left.expression)
        elif right.values is None:
            within = pl.lit(None, dtype=pl.Boolean)
        else:
            within = left.expression.is_in(right.values)
        return ~within if inverted else within

    def _listed(self, left: Operand) -> pl.Expr:
        """column IN (given, ...): all literals are one test of a set, what a request brings is compared one by one."""
        self.tokens.expect("(")
        literals: dict[Any, None] = {}
        brought: list[pl.Expr] = []
        whole = left
        while True:
            if self._stands_alone(left.kind):
                literals[plain(self.tokens.take())] = None
                if self.tokens.accept(","):
                    continue
                break
            whole, one = self._pair(left, self._given(counted=False))
            require_like(whole, one)
            if one.constant is None:
                brought.append(whole.expression == one.expression)
                self._count(one.at)
            else:
                literals[one.constant] = None
            if not self.tokens.accept(","):
                break
        self.tokens.expect(")")
        if literals:
            listed = pl.Series(list(literals), dtype=DTYPES[whole.kind]).implode()
            brought.append(whole.expression.cast(DTYPES[whole.kind]).is_in(listed))
        return brought[0] if len(brought) == 1 else pl.any_horizontal(brought)

    def _stands_alone(self, kind: Kind) -> bool:
        """Whether a number or text is next, of the kind that is compared, and nothing is added to it."""
        return self.tokens.peek().kind == kind in ("number", "text") and self.tokens.peek(1).value in (",", ")")

    def _given(self, *, counted: bool = True) -> Operand:
        """A literal, or what the request brings."""
        right = self._operand(counted=counted)
        if right.column is not None and not right.brought:
            refuse(right.at, f"expected a literal, found column {right.column!r}")
        return right

    def _pattern(self, left: Operand) -> pl.Expr:
        token = self.tokens.take()
        if token.kind != "text" or left.kind != "text":
            fail(token, "a text pattern for a text column")
        pattern = re.sub("%+", "%", str(plain(token)))
        if sum(pattern.count(sign) for sign in "%_") > MAX_WILDCARDS:
            refuse(token.at, f"a pattern has more than {MAX_WILDCARDS} wildcards")
        parts = {"%": ".*", "_": "."}
        return left.expression.str.contains("^(?s:" + "".join(parts.get(c, re.escape(c)) for c in pattern) + ")$")

    def _asks_history(self) -> bool:
        token = self.tokens.peek()
        ahead = 2 if self.tokens.peek(1).value == "NOT" else 1
        is_item = token.kind == "word" and token.value.lower() == "item"
        return is_item and self.tokens.peek(ahead).value == "IN" and self.tokens.calls("history", ahead + 1)

    def _in_history(self) -> RowTest:
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
        self.histories += 1
        if self.histories > MAX_HISTORIES:
            refuse(at, f"a condition tests the history more than {MAX_HISTORIES} times")
        self.references.history.append(HistoryTest(kind, within.total_seconds() if within else None, inverted))
        history = (self.bindings or Bindings()).history
        return RowTest(lambda: history(kind, within), inverted)

    def _kind(self) -> str:
        token = self.tokens.take()
        kind = str(plain(token))
        if self.schema.kinds is not None and kind not in self.schema.kinds:
            refuse(token.at, f"there is no kind {kind!r} of interactions{near(kind, self.schema.kinds)}")
        return kind
