"""Interactions that came since the models learned: by user, in memory, the newest of them."""

from __future__ import annotations

import sys
import threading
from collections import deque
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import NamedTuple

TEXT_BYTES_PER_ROW = 100
"""Average length of the texts of a row that memory is planned for."""

MOST_OF_ONE = 1000
"""Rows of one user that are kept."""


class LiveRow(NamedTuple):
    """One interaction. seq: its number among all events; at: microseconds since 1970, UTC."""

    seq: int
    item: str
    kind: str | None
    value: float | None
    at: int


Kept = tuple[int, str, str | None, float | None, int]
SEQ, AT = 0, 4
"""A `LiveRow` as it is kept, and two of its places. Python's search for cycles lets plain tuples of numbers and texts
go at first sight; with half a million named ones it would hold every list up three times as long."""


class LiveRows:
    """Rows by user, each in order of time. Readers never wait: a user's rows are a tuple that is replaced whole.

    most: rows kept of all users; beyond it those that came first go, which `dropped` counts.
    max_bytes: bytes that the texts of all rows may have; beyond it too.
    """

    def __init__(self, most: int = 500_000, max_bytes: int | None = None) -> None:
        self.most = most
        self.max_bytes = most * TEXT_BYTES_PER_ROW if max_bytes is None else max_bytes
        self._n_bytes = 0
        self.dropped = 0
        self._rows: dict[str, tuple[Kept, ...]] = {}
        self._highest: dict[str, int] = {}
        self._came: deque[tuple[str, int, int]] = deque()
        self._lock = threading.Lock()

    def __len__(self) -> int:
        return len(self._came)

    def add(self, rows: Iterable[tuple[str, LiveRow]]) -> int:
        """Take in rows with their users; one that is here already, by its number, is passed over. How many were new."""
        new = 0
        with self._lock:
            for user, row in rows:
                of_user = self._rows.get(user, ())
                # numbers rise with few exceptions, so those that are here need seldom be gone through
                highest = self._highest.get(user, -1)
                if row.seq <= highest and any(other[SEQ] == row.seq for other in of_user):
                    continue
                self._highest[user] = max(highest, row.seq)
                kept: Kept = (row.seq, sys.intern(row.item), row.kind, row.value, row.at)
                if of_user and (row.at, row.seq) < (of_user[-1][AT], of_user[-1][SEQ]):
                    of_user = tuple(sorted((*of_user, kept), key=lambda each: (each[AT], each[SEQ])))
                else:
                    of_user = (*of_user, kept)
                self._rows[user] = of_user[-MOST_OF_ONE:]
                size = _text_bytes(user, row)
                self._n_bytes += size
                self._came.append((user, row.seq, size))
                new += 1
            while len(self._came) > self.most or self._n_bytes > self.max_bytes:
                user, seq, size = self._came.popleft()
                self._n_bytes -= size
                self._drop(user, seq)
        return new

    def _drop(self, user: str, seq: int) -> None:
        left = tuple(row for row in self._rows.get(user, ()) if row[SEQ] != seq)
        self.dropped += 1
        if left:
            self._rows[user] = left
        else:
            self._rows.pop(user, None)
            self._highest.pop(user, None)

    def of_user(self, user: str | None) -> tuple[Kept, ...]:
        """The rows of a user, newest last, as they are kept: the same object until there is another."""
        return () if user is None else self._rows.get(user, ())

    def of(self, user: str | None) -> list[LiveRow]:
        """The rows of a user, newest last."""
        return [LiveRow(*row) for row in self.of_user(user)]

    def everything(self) -> Iterator[LiveRow]:
        """The rows of all users."""
        return (LiveRow(*row) for rows in list(self._rows.values()) for row in rows)

    def items_of(self, user: str | None, kind: str | None, since: datetime | None) -> list[str]:
        """Items that a user has rows of, of one kind or any. since: not before this moment."""
        edge = None if since is None else int(since.astimezone(UTC).timestamp() * 1_000_000)
        return [
            row.item for row in self.of(user) if (kind is None or row.kind == kind) and (edge is None or row.at >= edge)
        ]

    def users_with(self, item: str) -> list[str]:
        """Return the users who have rows of an item."""
        return [user for user, rows in list(self._rows.items()) if any(LiveRow(*row).item == item for row in rows)]

    def users(self) -> list[str]:
        """Everybody who has rows."""
        return list(self._rows)

    def forget(self, user: str) -> None:
        """Drop everything of a user."""
        with self._lock:
            self._rows.pop(user, None)
            self._highest.pop(user, None)
            self._n_bytes -= sum(size for other, _, size in self._came if other == user)
            self._came = deque(each for each in self._came if each[0] != user)


def _text_bytes(user: str, row: LiveRow) -> int:
    return sum(len(text) * (1 if text.isascii() else 4) for text in (user, row.item, row.kind or ""))
