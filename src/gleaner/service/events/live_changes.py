"""Columns of items and users that change while a shelf serves: checked against the dataset's newest version."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import Any

import polars as pl
from sqlalchemy import Connection

from gleaner.core.errors import InputError, near
from gleaner.core.ranking.conditions.values import kind_of, moment_of
from gleaner.service.http.problems import FieldsError
from gleaner.service.http.state import Service
from gleaner.serving.tables import ItemTable
from gleaner.store import datasets, live_columns
from gleaner.store.live_columns import Side
from gleaner.wire.common import FieldProblem
from gleaner.wire.events import ChangesAccepted, ChangesRequest

TOLD = 20


def change(
    service: Service, data: str, side: Side, request: ChangesRequest, record_write: Callable[[Connection], None]
) -> ChangesAccepted:
    """Set cells, durably, and have every shelf of this process see them. All or none. put_down: notes the call in the
    same transaction.

    Raises FieldsError naming rows, columns or values that do not fit, UnknownNameError for an unknown dataset.
    """
    with service.engine.begin() as connection:
        newest = datasets.newest(connection, data)
    library = service.library
    read = library.items_of_version if side == "item" else library.users_of_version
    table = read(newest.version_id)
    if table.frame is None:
        raise InputError(f"{newest.name} has no table of {side}s whose columns could change", where="data")
    problems, cells = [], []
    for place, each in enumerate(request.changes):
        if table.row_of(each.id) is None:
            text = f"the table of {side}s of {newest.name} has no {each.id!r}"
            problems.append(FieldProblem(field=f"changes.{place}.id", message=text))
            continue
        for name, value in each.columns.items():
            wrong = _misfit(table, name, value)
            if wrong:
                problems.append(FieldProblem(field=f"changes.{place}.columns.{name}", message=wrong))
            cells.append((each.id, name, value))
    if problems:
        sentence = "; ".join(f"{each.field}: {each.message}" for each in problems[:3])
        more = f"; and {len(problems) - 3} more" if len(problems) > 3 else ""
        raise FieldsError(f"{sentence}{more}; nothing was changed", problems[:TOLD])
    with service.engine.begin() as connection:
        live_columns.put_all(connection, newest.dataset_id, side, cells, service.live.origin)
        record_write(connection)
    service.shelves.reload(newest.dataset_id)
    return ChangesAccepted(data=data, rows=len({row for row, _, _ in cells}), cells=len({cell[:2] for cell in cells}))


def _misfit(table: ItemTable, name: str, value: Any) -> str | None:
    """Why a value cannot stand in a column; None where it can."""
    assert table.frame is not None
    if name not in table.columns:
        return f"there is no such column{near(name, table.columns)}"
    if value is None:
        return None
    dtype = table.frame.schema[name]
    kind = kind_of(dtype)
    if kind is not None and _fits(kind, value, dtype):
        return None
    wanted = "whole number" if dtype.is_integer() else f"{kind}"
    return f"{value!r} is not a {wanted}, as the column holds"


def _fits(kind: str, value: Any, dtype: Any) -> bool:
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    match kind:
        case "number":
            whole = not dtype.is_integer() or (is_number and float(value).is_integer() and abs(value) < 2**62)
            return is_number and whole
        case "flag":
            return isinstance(value, bool)
        case "list":
            return isinstance(value, list) and all(isinstance(each, str) for each in value)
        case "date" | "time":
            return isinstance(value, str) and _is_moment(value, dtype)
        case _:
            return isinstance(value, str)


def _is_moment(text: str, dtype: Any) -> bool:
    try:
        date.fromisoformat(text) if dtype == pl.Date else moment_of(text)
    except ValueError:
        return False
    return True
