"""A table or a query of a PostgreSQL database, copied to a file of ours first: a slow or broken connection then cannot
leave an import half-read."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import psycopg
from psycopg import sql

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.fetch import CallerReach
from gleaner.jobs.datasets.sources.places import UrlPlace, place_of

CONNECT_S = 10
TELL_EVERY_S = 0.5


def is_database(url: str) -> bool:
    """Whether a URL names a database."""
    return urlsplit(url).scheme in ("postgresql", "postgres")


def connection_to(place: UrlPlace, reach: CallerReach, **more: Any) -> psycopg.Connection:
    """A connection to a database that the caller may reach, at the address that was looked at. Nothing of the URL is
    left to the library to read. Raises DataError where it may not be reached, psycopg.Error where it cannot."""
    reach.require(place)
    filled, addresses = reach.allowed.with_secrets(place), reach.addresses_of(place)
    parameters: dict[str, Any] = dict(filled.query)
    return psycopg.connect(
        host=",".join([filled.host] * len(addresses)),
        hostaddr=",".join(addresses),
        port=filled.port,
        user=None if filled.user is None else unquote(filled.user),
        password=None if filled.password is None else unquote(filled.password),
        dbname="".join(filled.segments) or None,
        connect_timeout=CONNECT_S,
        **parameters,
        **more,
    )


def copy_query(
    url: str,
    name: str,
    out: Path,
    *,
    table: str | None,
    query: str | None,
    timeout_s: float,
    max_bytes: int,
    on_bytes: Callable[[int], None],
    first: int | None = None,
    reach: CallerReach,
) -> None:
    """Write the rows, or the first so many, as CSV with a header. Read-only, within `timeout_s` and `max_bytes`.

    Raises DataError naming the database (never its password) when it is down, slow, refuses, or the query is wrong.
    """
    if (table is None) == (query is None):
        raise DataError(f"{name}: name a table or give a query, one of the two", where="table")
    options = (
        f"-c statement_timeout={int(timeout_s * 1000)} -c default_transaction_read_only=on "
        "-c DateStyle=ISO -c TimeZone=UTC -c extra_float_digits=1"
    )
    try:
        with connection_to(place_of(url), reach, options=options) as connection:
            wanted = _wanted(connection, table, query)
            if first is not None:
                wanted = sql.SQL("SELECT * FROM ({}\n) AS asked LIMIT {}").format(wanted, sql.Literal(first))
            _copy(connection, name, out, wanted, max_bytes, on_bytes)
    except psycopg.errors.QueryCanceled as error:
        raise DataError(
            f"{name}: the query took longer than {timeout_s:g} s; make it smaller, or raise GLEANER_SOURCE_TIMEOUT_S",
            where=name,
        ) from error
    except psycopg.OperationalError as error:
        raise DataError(f"{name} cannot be reached: {server_message(error)}", where=name) from error
    except psycopg.Error as error:
        raise DataError(
            f"{name}: the database refused: {server_message(error)}", where="query" if query else "table"
        ) from error


def _wanted(connection: psycopg.Connection, table: str | None, query: str | None) -> sql.Composable:
    if table is not None:
        return sql.SQL("SELECT * FROM {}").format(sql.Identifier(*table.split(".")))
    assert query is not None
    text = query.strip().rstrip(";")
    # as a cursor it must be one statement that gives rows: what closes a bracket or adds a second one does not parse
    connection.execute(f"DECLARE probe NO SCROLL CURSOR FOR {text}\n".encode(), prepare=True)
    connection.execute("CLOSE probe")
    return sql.SQL(text)


def _copy(
    connection: psycopg.Connection,
    name: str,
    out: Path,
    wanted: sql.Composable,
    max_bytes: int,
    on_bytes: Callable[[int], None],
) -> None:
    size, last_message = 0, time.monotonic()
    statement = sql.SQL("COPY ({}\n) TO STDOUT WITH (FORMAT csv, HEADER true)").format(wanted)
    with out.open("wb") as file, connection.cursor() as cursor, cursor.copy(statement) as copy:
        for block in copy:
            size += len(block)
            if size > max_bytes:
                raise DataError(f"{name} gives more than {max_bytes:,} bytes", where=name)
            file.write(block)
            if time.monotonic() - last_message > TELL_EVERY_S:
                last_message = time.monotonic()
                on_bytes(size)


def server_message(error: psycopg.Error) -> str:
    """What the server said, on one line and without a password."""
    text = error.diag.message_primary or str(error).strip().split("\n")[0].rpartition("failed: ")[2]
    return re.sub(r"://[^@\s]*@", "://***@", text)
