"""What stands in a condition: columns, literals and what a request brings, each with its kind."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from typing import Any, Literal

import numpy as np
import polars as pl

from gleaner.core.errors import InputError
from gleaner.core.ranking.conditions.tokens import refuse

Kind = Literal["number", "text", "flag", "date", "time", "list", "any"]
DTYPES: dict[str, Any] = {
    "number": pl.Float64, "text": pl.String, "flag": pl.Boolean, "date": pl.Date,
    "time": pl.Datetime("us", "UTC"), "list": pl.List(pl.String), "any": pl.String,
}  # fmt: skip
HistoryRows = Callable[[str | None, timedelta | None], np.ndarray]
"""The rows of the items a user has rows of: of one kind or any, since so long ago or ever."""


def no_history(kind: str | None, within: timedelta | None) -> np.ndarray:
    """Of someone nothing is known of."""
    return np.empty(0, dtype=np.int32)


@dataclass(frozen=True, eq=False)
class Bindings:
    """What a request brings. user: columns of the user's row; context: values by name; history: see HistoryRows."""

    user: Mapping[str, Any] = field(default_factory=dict)
    context: Mapping[str, Any] = field(default_factory=dict)
    now: datetime = datetime(1970, 1, 1, tzinfo=UTC)
    history: HistoryRows = no_history


@dataclass(frozen=True, eq=False)
class Operand:
    """An expression with its kind. column: its name where it is one, of items or of the user; context: the name of a
    value of the request, of kind `any` until it is compared; brought: whether it is not an item's; values: then the
    entries of a list; constant: the value of a literal that stands alone."""

    expression: pl.Expr
    kind: Kind
    column: str | None
    at: int
    context: str | None = None
    values: list[str] | None = None
    brought: bool = False
    constant: Any = None


def kind_of(dtype: Any) -> Kind | None:
    """How a condition sees a column; None where it cannot."""
    if dtype.is_numeric():
        return "number"
    kinds: dict[Any, Kind] = {
        pl.String: "text", pl.Boolean: "flag", pl.Date: "date", pl.Datetime: "time", pl.List: "list",
        pl.Categorical: "text", pl.Enum: "text",
    }  # fmt: skip
    return kinds.get(dtype.base_type())


def as_times(left: Operand, right: Operand) -> tuple[Operand, Operand]:
    """A date beside a time becomes its midnight, UTC."""
    if {left.kind, right.kind} != {"date", "time"}:
        return left, right
    one, other = (each if each.kind == "time" else _midnight(each) for each in (left, right))
    return one, other


def _midnight(day: Operand) -> Operand:
    if day.constant is not None:
        return literal(datetime.combine(day.constant, time(), UTC), "time", day.at)
    return Operand(day.expression.cast(pl.Datetime("us")).dt.replace_time_zone("UTC"), "time", day.column, day.at)


def literal(value: Any, kind: Kind, at: int) -> Operand:
    """A literal of the condition's text."""
    return Operand(pl.lit(value, dtype=DTYPES[kind]), kind, None, at, constant=value)


def require_like(left: Operand, right: Operand) -> None:
    """Raise InputError unless two can be compared."""
    lists = [side.column for side in (left, right) if side.kind == "list"]
    if lists:
        name = lists[0] or "this"
        refuse(right.at, f"column {name!r} holds lists; write 'text' IN {name}" if lists[0] else "a list: write IN")
    if left.kind != right.kind:
        names = [f"{side.column} ({side.kind})" if side.column else f"a {side.kind}" for side in (left, right)]
        refuse(right.at, f"{names[0]} cannot be compared with {names[1]}")


def bound(name: str, kind: Kind, value: Any, at: int) -> Operand:
    """A value that a request brought, as what it is compared with. Raises InputError where it is none."""
    where = f"context.{name}"
    if value is None:
        return Operand(pl.lit(None, dtype=DTYPES[kind]), kind, None, at, name, brought=True)
    if kind == "list":
        entries = value if isinstance(value, list) else [value]
        if any(not isinstance(entry, str) for entry in entries):
            raise InputError(f"context {name!r} must be a list of texts, not {value!r}", where=where)
        return Operand(pl.lit(None, dtype=DTYPES[kind]), kind, None, at, name, entries, brought=True)
    read = _READ[kind]
    try:
        return Operand(pl.lit(read(value), dtype=DTYPES[kind]), kind, None, at, name, brought=True)
    except (TypeError, ValueError, OverflowError):
        raise InputError(f"context {name!r} must be a {kind}, not {value!r}", where=where) from None


def _number(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise TypeError
    return float(value)


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise TypeError
    return value


def _flag(value: Any) -> bool:
    if not isinstance(value, bool):
        raise TypeError
    return value


def moment_of(text: str) -> datetime:
    """A moment in UTC. Raises ValueError."""
    moment = datetime.fromisoformat(text)
    return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)


_READ: dict[str, Callable[[Any], Any]] = {
    "number": _number,
    "text": _text,
    "any": str,
    "flag": _flag,
    "date": lambda value: value if type(value) is date else date.fromisoformat(value),
    "time": lambda value: value if isinstance(value, datetime) else moment_of(value),
}
