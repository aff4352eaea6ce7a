"""Columns of items and users that change while a shelf serves: checked against the dataset's newest version."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import OperationalError

from gleaner.core.data.tables.changed import as_cell, as_json
from gleaner.core.errors import InputError, near
from gleaner.service.http.problems import FieldsError
from gleaner.service.http.state import Service
from gleaner.serving.tables import ItemTable
from gleaner.store import datasets, live_columns
from gleaner.store.live_columns import Side
from gleaner.wire.common import FieldProblem
from gleaner.wire.events import MAX_CELLS, ChangesAccepted, ChangesRequest

log = logging.getLogger("gleaner.service")

MAX_PROBLEMS = 20
"""Number of mistakes after which a request is no longer checked."""

Cells = list[tuple[str, str, Any]]


def change(
    service: Service, data: str, side: Side, request: ChangesRequest, record_write: Callable[[Connection], None]
) -> ChangesAccepted:
    """Set cells durably and have every shelf of this process use them. All cells are set, or none.

    The changed table is built before anything is committed, so that a value which no table can hold is never kept.

    record_write: records the call in the same transaction.

    Raises FieldsError naming rows, columns or values that do not fit, UnknownNameError for an unknown dataset.
    """
    with service.engine.begin() as connection:
        newest = datasets.newest(connection, data)
    library = service.library
    read_table = library.items_of_version if side == "item" else library.users_of_version
    table = read_table(newest.version_id)
    if table.frame is None:
        raise InputError(f"{newest.name} has no table of {side}s whose columns could change", where="data")
    cells = _checked_cells(table, f"the table of {side}s of {newest.name}", request)
    if table.changed(cells).skipped_cells:
        raise InputError("the table cannot hold these values; nothing was changed", where="changes")
    with service.engine.begin() as connection:
        live_columns.put_all(connection, newest.dataset_id, side, cells, service.live.origin)
        record_write(connection)
    try:
        service.shelves.reload(newest.dataset_id)
    except OperationalError as error:
        # the cells are kept; shelves take them in as soon as the database is heard again
        log.warning("the shelves of %s take in changed columns later: %s", data, error.orig)
    return ChangesAccepted(data=data, rows=len({row for row, _, _ in cells}), cells=len({cell[:2] for cell in cells}))


def _checked_cells(table: ItemTable, table_name: str, request: ChangesRequest) -> Cells:
    """Return the cells of a request as JSON values that the table's columns can store. Raise FieldsError otherwise."""
    n_cells = sum(len(row.columns) for row in request.changes)
    if n_cells > MAX_CELLS:
        raise InputError(f"{n_cells:,} cells are more than the {MAX_CELLS:,} of one call", where="changes")
    problems: list[FieldProblem] = []
    cells: Cells = []
    for index, row in enumerate(request.changes):
        if len(problems) > MAX_PROBLEMS:
            break
        if table.row_of(row.id) is None:
            text = f"{table_name} has no {row.id!r}"
            problems.append(FieldProblem(field=f"changes.{index}.id", message=text))
            continue
        for name, value in row.columns.items():
            try:
                cells.append((row.id, name, _checked_value(table, name, value)))
            except ValueError as error:
                problems.append(FieldProblem(field=f"changes.{index}.columns.{name[:100]}", message=str(error)))
                if len(problems) > MAX_PROBLEMS:
                    break
    if problems:
        sentence = "; ".join(f"{problem.field}: {problem.message}" for problem in problems[:3])
        more = "; and more" if len(problems) > 3 else ""
        raise FieldsError(f"{sentence}{more}; nothing was changed", problems[:MAX_PROBLEMS])
    return cells


def _checked_value(table: ItemTable, name: str, value: Any) -> Any:
    assert table.frame is not None
    if name not in table.columns:
        raise ValueError(f"there is no such column{near(name[:100], table.columns)}")
    return as_json(as_cell(value, table.frame.schema[name]))
