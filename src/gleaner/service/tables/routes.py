"""Any table of figures as Parquet: what the console's tables download beside CSV."""

from __future__ import annotations

import polars as pl
from fastapi import APIRouter, Response

from gleaner.core.errors import InputError
from gleaner.service.http.access import BUILD
from gleaner.service.http.dependencies import PROBLEMS
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.tables.forms import to_parquet
from gleaner.wire.common import PlainTable

router = APIRouter(prefix="/v1", tags=["tables"], responses=PROBLEMS, route_class=GuardedRoute)
PARQUET = "application/vnd.apache.parquet"


@router.post(
    "/tables",
    dependencies=[BUILD],
    response_class=Response,
    responses={200: {"content": {PARQUET: {"schema": {"type": "string", "format": "binary"}}}}},
)
def write_table(body: PlainTable) -> Response:
    """Write a table that was sent as JSON as a Parquet file. Nothing is kept."""
    wrong = next((n for n, row in enumerate(body.rows, 1) if len(row) != len(body.columns)), None)
    if wrong is not None:
        raise InputError(f"row {wrong} has not one cell for each of the {len(body.columns)} columns", where="rows")
    columns = {title: [row[at] for row in body.rows] for at, title in enumerate(body.columns)}
    frame = pl.DataFrame({title: pl.Series(cells, strict=False) for title, cells in columns.items()})
    return Response(to_parquet(frame), media_type=PARQUET, headers={"Content-Disposition": "attachment"})
