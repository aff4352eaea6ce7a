"""Pages of lists and their cursors."""

from __future__ import annotations

from base64 import urlsafe_b64decode, urlsafe_b64encode
from binascii import Error as Base64Error
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from sqlalchemy import Row

from gleaner.core.errors import InputError
from gleaner.store.records.pages import RecordPage

T = TypeVar("T")
PAGE = 50
MAX_DIGITS = 18
"""More digits than any row number has."""


def paged(rows: Sequence[Row[Any]], limit: int, key: str, make: Callable[[Row[Any]], T]) -> RecordPage[T]:
    """A page of the first `limit` rows, of which one more was asked for: it shows whether another page follows."""
    following = cursor_of(rows[limit - 1]._mapping[key]) if len(rows) > limit else None
    return RecordPage([make(row) for row in rows[:limit]], following)


def cursor_of(key: int | str) -> str:
    """An opaque cursor for the last row of a page."""
    return urlsafe_b64encode(str(key).encode()).decode().rstrip("=")


def after_cursor(cursor: str | None) -> str | None:
    """The key in a cursor. Raises InputError when it is not one of ours."""
    if cursor is None:
        return None
    try:
        key = urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)).decode()
        if "\0" in key:
            raise ValueError
        return key
    except (Base64Error, UnicodeDecodeError, ValueError):
        raise InputError(f"cursor {cursor!r} is not one this service gave", where="after") from None


def after_id(cursor: str | None) -> int | None:
    """The number in a cursor of a list that is ordered by number."""
    key = after_cursor(cursor)
    if key is None:
        return None
    if not (key.isascii() and key.isdigit() and len(key) <= MAX_DIGITS):
        raise InputError(f"cursor {cursor!r} is not one this service gave", where="after")
    return int(key)
