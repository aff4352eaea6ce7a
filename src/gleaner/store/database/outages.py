"""Tell a database that is away from a statement that it refuses, by SQLSTATE."""

from __future__ import annotations

import psycopg
from sqlalchemy.exc import DBAPIError, InterfaceError
from sqlalchemy.exc import TimeoutError as PoolTimeoutError

UNAVAILABLE_CLASSES = ("08", "57", "58")
"""Connection exceptions, operator intervention (shutdown, cancel, crash), and errors of its machine."""

UNAVAILABLE_STATES = ("53300", "55P03", "40001", "40P01", "25P03")
"""Too many connections, a lock not available, a conflict of transactions, a deadlock, a transaction that idled."""

OUT_OF_ROOM = ("53100", "53200")
"""The database's disk or memory is full."""

TOO_LARGE_CLASS = "54"
"""A value is within the types and beyond what an index or a statement can hold."""


def sqlstate_of(error: BaseException) -> str | None:
    """Return the SQLSTATE of a database error; None where it has none, as when the connection broke."""
    origin = error.orig if isinstance(error, DBAPIError) else error
    return origin.sqlstate if isinstance(origin, psycopg.Error) else None


def is_unavailable(error: BaseException) -> bool:
    """Return True where the same statement may succeed later."""
    if isinstance(error, PoolTimeoutError | InterfaceError):
        return True
    if isinstance(error, DBAPIError) and error.connection_invalidated:
        return True
    state = sqlstate_of(error)
    if state is None:
        return isinstance(error, DBAPIError | psycopg.Error)
    return state.startswith(UNAVAILABLE_CLASSES) or state in UNAVAILABLE_STATES


def is_out_of_room(error: BaseException) -> bool:
    """Return True where the database's disk or memory is full."""
    return sqlstate_of(error) in OUT_OF_ROOM


def is_too_large(error: BaseException) -> bool:
    """Return True where a value is larger than the database can hold."""
    state = sqlstate_of(error)
    return state is not None and state.startswith(TOO_LARGE_CLASS)
