"""A condition as a tree of tests, and working it out within a time.

Tests are joined flat, and worked out over slices of the rows, one test at a time, so that the time is looked at every
few milliseconds: whatever a caller wrote, it ends soon after its time is over.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import polars as pl

from gleaner.core.errors import InputError

FIRST_SLICE = 512
"""Rows of the first slice. One in which every test took less than QUICK_S is followed by one of twice as many."""

QUICK_S = 0.002


@dataclass(frozen=True, eq=False)
class Test:
    """One test of the columns: true, false or unknown for each row."""

    expression: pl.Expr


@dataclass(frozen=True, eq=False)
class RowTest:
    """Whether a row is one of those that a call answers; looked up when the condition is worked out."""

    rows: Callable[[], np.ndarray]
    inverted: bool


@dataclass(frozen=True, eq=False)
class Not:
    """Where the part is false."""

    part: Node


@dataclass(frozen=True, eq=False)
class Joined:
    """Several parts, where all of them or any of them must hold."""

    parts: tuple[Node, ...]
    by_all: bool


Node = Test | RowTest | Not | Joined


class Budget:
    """So many seconds from when it is made; over when they are over by every clock. Without a clock there is no end.

    One clock is that of the wall, the other counts the processor's time of this process: on a machine that is busy with
    other work a condition takes longer, and is not to blame for it.
    """

    def __init__(self, seconds: float = 0.0, *clocks: Callable[[], float]) -> None:
        self.seconds = seconds
        self._ends = [(clock, clock() + seconds) for clock in clocks]

    @property
    def left(self) -> float:
        """Seconds that are left, below 0 when it is over."""
        return max((end - clock() for clock, end in self._ends), default=self.seconds)

    def require_time(self) -> None:
        """Raise InputError when the time is over."""
        if self.left < 0:
            raise InputError(
                f"working the condition out takes longer than {self.seconds * 1000:.0f} ms, and was stopped; "
                "use fewer tests and patterns, or put it into the shelf's file",
                where="where",
            )


def expression_of(node: Node) -> pl.Expr:
    """The tree as one expression over a whole table, false where it is unknown. For conditions on items alone."""
    return _expression(node).fill_null(False)


def _expression(node: Node) -> pl.Expr:
    if isinstance(node, Test):
        return node.expression
    if isinstance(node, Not):
        return ~_expression(node.part)
    if isinstance(node, Joined):
        parts = [_expression(part) for part in node.parts]
        return pl.all_horizontal(parts) if node.by_all else pl.any_horizontal(parts)
    raise InputError("a condition on a history is of the person a shelf serves", where="where")


def holds(node: Node, table: pl.DataFrame, budget: Budget) -> np.ndarray:
    """Where a condition holds: bool (table.height,). Raises InputError when the time is over."""
    work = _Work(table, budget)
    work.look_up(node)
    out = np.empty(table.height, dtype=bool)
    at, size = 0, FIRST_SLICE
    while at < table.height:
        rows = slice(at, min(at + size, table.height))
        out[rows] = work.over(node, rows).fill_null(False).to_numpy()
        at = rows.stop
        if work.slowest < QUICK_S:
            size *= 2
    budget.require_time()
    return out


class _Work:
    """Working a tree out, slice by slice. slowest: seconds of the slowest test of the slice before."""

    def __init__(self, table: pl.DataFrame, budget: Budget) -> None:
        self.table, self.budget = table, budget
        self.slowest = 0.0
        self._masks: dict[int, pl.Series] = {}
        self._part = table

    def look_up(self, node: Node) -> None:
        """Look every test by row up, once for all slices."""
        if isinstance(node, RowTest):
            self.budget.require_time()
            mask = np.full(self.table.height, node.inverted)
            mask[node.rows()] = not node.inverted
            self._masks[id(node)] = pl.Series(mask)
        for part in node.parts if isinstance(node, Joined) else (node.part,) if isinstance(node, Not) else ():
            self.look_up(part)

    def over(self, node: Node, rows: slice) -> pl.Series:
        """True, false or unknown for some rows."""
        self._part, self.slowest = self.table[rows], 0.0
        return self._evaluated(node, rows)

    def _evaluated(self, node: Node, rows: slice) -> pl.Series:
        if isinstance(node, RowTest):
            return self._masks[id(node)][rows]
        if isinstance(node, Not):
            return ~self._evaluated(node.part, rows)
        if isinstance(node, Test):
            return self._tested(node)
        first, *others = node.parts
        total = self._evaluated(first, rows)
        for part in others:
            one = self._evaluated(part, rows)
            total = total & one if node.by_all else total | one
        return total

    def _tested(self, node: Test) -> pl.Series:
        begun = self.budget.left
        self.budget.require_time()
        holds = self._part.select(node.expression.alias("holds"))["holds"]
        self.slowest = max(self.slowest, begun - self.budget.left)
        # what names no column is one value for all rows
        return holds if holds.len() == self._part.height else holds.new_from_index(0, self._part.height)
