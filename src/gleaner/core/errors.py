"""The errors Gleaner raises on purpose.

GleanerError
├── InputError        the caller's data, file or parameter is wrong; the message says what, where, what to do
│   ├── DataError     rows, columns or files
│   └── ParameterError  an option outside its range
├── UnknownNameError  a name that does not exist
├── ConflictError     it exists already, or is in use
│   └── MadeMeanwhileError  what was read has changed since; read it again
└── CancelledError    the work was cancelled between two ranges
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from difflib import get_close_matches


class GleanerError(Exception):
    """Base of every error raised on purpose. `where` names the field, column, row or line at fault."""

    def __init__(self, message: str, *, where: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.where = where


class InputError(GleanerError):
    """What was given is wrong."""


class DataError(InputError):
    """Rows, columns or a file are wrong."""


class ParameterError(InputError):
    """An option lies outside what is allowed."""


class UnknownNameError(GleanerError):
    """Nothing has this name."""


class ConflictError(GleanerError):
    """It exists already, or something still needs it."""


class MadeMeanwhileError(ConflictError):
    """What was read has changed since. Reading it again may succeed."""


class CancelledError(GleanerError):
    """The work was cancelled. Nothing of it is kept."""

    def __init__(self, message: str = "cancelled", *, where: str | None = None) -> None:
        super().__init__(message, where=where)


def near(name: str, known: Iterable[str]) -> str:
    """The end of a sentence about a name that does not exist: the nearest that does, or all of them where none is."""
    names = list(known)
    close = get_close_matches(name, names, 1)
    return f"; did you mean {close[0]!r}?" if close else f"; there are: {', '.join(names) or 'none'}"


def require_range(
    name: str, value: float, low: float | None = None, high: float | None = None, *, whole: bool = False
) -> None:
    """Raise ParameterError unless the value is finite and `low <= value <= high` (a bound of None is open)."""
    allowed = f"{'a whole number' if whole else 'a number'}"
    if low is not None:
        allowed += f" of at least {low:g}"
    if high is not None:
        allowed += f"{' and' if low is not None else ''} at most {high:g}"
    wrong_type = isinstance(value, bool) or not isinstance(value, int if whole else (int, float))
    outside = not wrong_type and (
        not math.isfinite(value) or (low is not None and value < low) or (high is not None and value > high)
    )
    if wrong_type or outside:
        raise ParameterError(f"{name} must be {allowed}, not {value!r}", where=name)
