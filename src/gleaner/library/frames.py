"""Frames of Polars or pandas as interactions and features."""

from __future__ import annotations

import warnings
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.tables.row_features import Features, features_of
from gleaner.core.data.tables.text_encoders import TextEncoders
from gleaner.core.errors import DataError, near

PARTS = ("training", "validation", "test")
PART = "part of the split"
"""The column that says which part a row is of, by a name that no frame has."""


def interactions(
    frame: Any,
    *,
    user: str,
    item: str,
    value: str | None = None,
    kind: str | None = None,
    time: str | None = None,
    scale: tuple[float, float] | None = None,
    context: Sequence[str] = (),
) -> InteractionRows:
    """Rows of a Polars or pandas frame, its columns named; or of several that were split beforehand, `{"training":
    frame, "validation": frame, "test": frame}`, for `split(..., by="given")`.

    Ids become text as they are. scale: lowest, highest value. context: columns of the interaction, such as the device,
    for models that look at it; hour, weekday and month of the time are there too.

    Raises DataError naming the column that is missing, or holds an empty id or a value that is not finite.
    """
    table = _parts(frame) if isinstance(frame, Mapping) else _polars(frame)
    named = {"user": user, "item": item, "value": value, "kind": kind, "time": time}
    columns = []
    for role, name in named.items():
        if name is None:
            continue
        if name not in table.columns:
            raise DataError(f"there is no column {name!r}{near(name, table.columns)}", where=role)
        columns.append(_column(table[name], role))
    for name in context:
        if name not in table.columns:
            raise DataError(f"there is no column {name!r}{near(name, table.columns)}", where="context")
        columns.append(table[name])
    if isinstance(frame, Mapping):
        columns.append(table[PART].alias("part"))
    rows = InteractionRows.from_arrow(pl.DataFrame(columns).to_arrow(), scale, context)
    return rows.with_time_parts() if context else rows


def _polars(frame: Any) -> pl.DataFrame:
    return frame if isinstance(frame, pl.DataFrame) else pl.from_pandas(frame)


def _parts(frames: Mapping[str, Any]) -> pl.DataFrame:
    """One table of frames that were split beforehand. Raises DataError naming a part that there is not."""
    for name in frames:
        if name not in PARTS:
            raise DataError(f"there is no part {name!r}{near(name, PARTS)}", where="frame")
    for needed in ("training", "test"):
        if needed not in frames:
            raise DataError(f"frames that were split beforehand need a {needed} part", where="frame")
    tables = [_polars(frame).with_columns(pl.lit(name).alias(PART)) for name, frame in frames.items()]
    return pl.concat(tables, how="diagonal_relaxed")


def _column(column: pl.Series, role: str) -> pl.Series:
    name = column.name
    if role in ("user", "item"):
        if column.null_count():
            at = int(column.is_null().arg_true()[0])
            raise DataError(f"column {name!r} has no {role} in row {at + 1}", where=role)
        if column.dtype.is_numeric():
            _warn_of_numbers(name, column.dtype)
        return column.cast(pl.String).alias(role)
    if role == "value":
        values = column.cast(pl.Float64)
        if not values.drop_nulls().is_finite().all():
            raise DataError(f"column {name!r} holds a value that is not finite", where=role)
        return values.alias(role)
    if role == "time":
        if column.dtype == pl.String:
            column = column.str.to_datetime(time_zone="UTC")
        moments = column.cast(pl.Datetime("us")) if column.dtype == pl.Date else column
        zoned = getattr(moments.dtype, "time_zone", None)
        moments = moments.dt.convert_time_zone("UTC") if zoned else moments.dt.replace_time_zone("UTC")
        return moments.dt.cast_time_unit("us").alias(role)
    return column.cast(pl.String).alias(role)


def _warn_of_numbers(name: str, kind: pl.DataType) -> None:
    """Ids that were read as numbers have lost what only texts have."""
    warnings.warn(
        f"the ids in column {name!r} are numbers ({kind}): zeros before them and signs are gone, so that '007' is '7', "
        "long ones may be rounded, and with missing cells they end in .0; read the column as text, such as "
        f"schema_overrides={{{name!r}: pl.String}} of Polars or dtype={{{name!r}: str}} of pandas",
        UserWarning,
        stacklevel=4,
    )


def features(
    train: InteractionMatrix, *, items: Any = None, users: Any = None, text_encoders: str | Path | None = None
) -> Features:
    """What the items and users of a matrix are, from frames whose first column is the id: for `fit(..., features=)`.

    Categories, lists of tags, numbers, flags, dates and text are taken; what encoding learns it learns from these items
    and users. text_encoders: a folder of model folders, which models may name to read texts by. Raises DataError on an
    id that is there twice.
    """
    found = features_of(train.items, train.users, table_of(items, "items"), table_of(users, "users"))
    return replace(found, text_encoders=TextEncoders(None if text_encoders is None else Path(text_encoders)))


def table_of(frame: Any, which: str) -> pl.DataFrame | None:
    """A frame whose first column is the id, as a table with a column `id` of text. Raises DataError on an id that is
    there twice."""
    if frame is None:
        return None
    table = frame if isinstance(frame, pl.DataFrame) else pl.from_pandas(frame)
    if table.dtypes[0].is_numeric():
        _warn_of_numbers(table.columns[0], table.dtypes[0])
    table = table.rename({table.columns[0]: "id"}).with_columns(pl.col("id").cast(pl.String))
    again = table.filter(pl.col("id").is_duplicated())
    if again.height:
        first = again["id"][0]
        raise DataError(f"id {first!r} is there {(again['id'] == first).sum()} times", where=which)
    return table
