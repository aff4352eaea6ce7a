"""Where an export goes: a file of ours, a file at a URL, a table of a database."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

import fsspec
import psycopg
import pyarrow as pa
from psycopg import sql

from gleaner.core.errors import ConflictError, DataError
from gleaner.jobs.datasets.row_writer import plain_frame
from gleaner.jobs.datasets.sources.database import connection_to, server_message
from gleaner.jobs.datasets.sources.fetch import CallerReach
from gleaner.jobs.datasets.sources.places import place_of, without_secrets
from gleaner.wire.exports import TableTarget


def send_file(path: Path, to: str, reach: CallerReach) -> str:
    """Copy a file to a URL, whole or not at all: beside its place, then renamed. Answers the URL as it may be shown.

    Raises DataError when it cannot be written.
    """
    target = place_of(to)
    shown = target.shown
    reach.require(target)
    if reach.allowed.with_secrets(target) is not target:
        raise DataError(f"{shown}: secrets go into postgresql URLs only", where="to")
    try:
        fs, place = fsspec.core.url_to_fs("/" + "/".join(target.segments) if target.is_local else to)
        beside = f"{place}.{os.getpid()}.part"
        fs.makedirs(place.rpartition("/")[0], exist_ok=True)
        try:
            fs.put_file(str(path), beside)
            fs.mv(beside, place)
        except BaseException:
            if fs.exists(beside):
                fs.rm_file(beside)
            raise
    except (ImportError, ValueError) as error:
        raise DataError(f"{shown} cannot be opened: {error}", where="to") from error
    except DataError:
        raise
    except Exception as error:  # every file system has errors of its own
        raise DataError(f"{shown} cannot be written: {type(error).__name__}: {error}", where="to") from error
    return shown


def fill_table(parts: Iterable[pa.Table], target: TableTarget, reach: CallerReach) -> tuple[str, int]:
    """Copy rows into a table in one transaction; answers its name as it may be shown and how many rows.

    Raises ConflictError for a table that is there, or is not, against what `mode` says, DataError when the database
    cannot be reached or refuses.
    """
    shown = f"{without_secrets(target.url)} {target.table}"
    name = sql.Identifier(*target.table.split("."))
    place = place_of(target.url)
    if not place.is_database:
        raise DataError(f"{without_secrets(target.url)} is no postgresql:// URL", where="table.url")
    rows, ready = 0, False
    try:
        with connection_to(place, reach) as connection:
            for part in parts:
                if not ready:
                    _make_ready(connection, name, target, part.schema, shown)
                    ready = True
                columns = sql.SQL(", ").join(map(sql.Identifier, part.column_names))
                statement = sql.SQL("COPY {} ({}) FROM STDIN WITH (FORMAT csv)").format(name, columns)
                with connection.cursor() as cursor, cursor.copy(statement) as copy:
                    copy.write(plain_frame(part).write_csv(include_header=False, quote_style="non_numeric"))
                rows += part.num_rows
    except psycopg.OperationalError as error:
        raise DataError(f"{shown} cannot be reached: {server_message(error)}", where="table.url") from error
    except psycopg.Error as error:
        raise DataError(f"{shown}: the database refused: {server_message(error)}", where="table.table") from error
    return shown, rows


def _make_ready(
    connection: psycopg.Connection, name: sql.Identifier, target: TableTarget, schema: pa.Schema, shown: str
) -> None:
    there = connection.execute("SELECT to_regclass(%s)", [name.as_string(connection)]).fetchone()
    is_there = there is not None and there[0] is not None
    if target.mode == "new" and is_there:
        raise ConflictError(f"{shown} is there already; say append or replace, or name another", where="table.mode")
    if target.mode == "append" and not is_there:
        raise ConflictError(f"{shown} is not there, so nothing can be added to it; say new", where="table.mode")
    if target.mode == "replace" and is_there:
        # not truncated: who reads it meanwhile sees the rows before
        connection.execute(sql.SQL("DELETE FROM {}").format(name))
    if not is_there:
        columns = [sql.SQL("{} {}").format(sql.Identifier(f.name), sql.SQL(_type(f.type))) for f in schema]
        connection.execute(sql.SQL("CREATE TABLE {} ({})").format(name, sql.SQL(", ").join(columns)))


def _type(kind: pa.DataType) -> str:
    if pa.types.is_boolean(kind):
        return "boolean"
    if pa.types.is_integer(kind):
        return "integer"
    if pa.types.is_float64(kind):
        return "double precision"
    return "real" if pa.types.is_floating(kind) else "text"
