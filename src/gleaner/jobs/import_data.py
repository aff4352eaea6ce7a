"""Import: uploaded CSV files become the next version of a dataset."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq

from gleaner.core.data.profile import profile
from gleaner.core.errors import DataError
from gleaner.jobs.columns import TimeReader, parse_numbers, require_ids
from gleaner.jobs.content_hash import ContentHash
from gleaner.jobs.context import JobContext
from gleaner.jobs.csv_source import CsvSource
from gleaner.store import datasets, jobs
from gleaner.store.artefacts import Artefact
from gleaner.store.datasets import NewVersion
from gleaner.wire.datasets import ImportRequest, Note, Profile, Roles, TableColumn, UploadedFile

ROWS_PER_GROUP = 1 << 17
MAX_TABLE_BYTES = 2 << 30
EXAMPLES = 5

ROW_TYPES = {
    "user": pa.large_string(),
    "item": pa.large_string(),
    "kind": pa.large_string(),
    "time": pa.timestamp("us", tz="UTC"),
    "value": pa.float64(),
}


def run(context: JobContext) -> dict[str, Any]:
    """Read, check, write beside, profile; then keep files and row together. Answers what was made."""
    dataset, request = context.claim.subject, ImportRequest.model_validate(context.claim.payload)
    notes: list[Note] = []
    source = _source(context, request.interactions, request)
    rows = context.staging / "interactions.parquet"
    content = ContentHash()
    _stream_rows(
        source,
        request.roles,
        rows,
        content,
        notes,
        lambda done: context.require_going(0.8 * done, "reading interactions"),
    )
    context.require_going(0.8, "profiling")
    facts = Profile.model_validate(profile(_scan(rows)))
    items = _table(context, request, request.items, "item", rows, content, notes)
    users = _table(context, request, request.users, "user", rows, content, notes)
    context.require_going(0.95, "keeping the version")
    new = NewVersion(
        content_hash=content.hexdigest(),
        roles=request.roles,
        profile=facts,
        notes=notes,
        item_columns=_columns(items),
        user_columns=_columns(users),
        interactions=context.artefacts.put(rows, "parquet"),
        items=_put_table(context, items, "items"),
        users=_put_table(context, users, "users"),
    )
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        name = datasets.add_version(connection, dataset, new)
        result = {"version": name, "rows": facts.rows, "users": facts.users, "items": facts.items}
        text = f"{name}: {facts.rows:,} rows, {facts.users:,} users, {facts.items:,} items"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def _scan(rows: Path) -> pl.LazyFrame:
    return pl.scan_parquet(rows)


def _source(context: JobContext, uploaded: UploadedFile, request: ImportRequest) -> CsvSource:
    path = context.settings.uploads / uploaded.upload
    if not path.exists():
        raise DataError(f"upload {uploaded.upload} is gone; send {uploaded.file} again", where=uploaded.file)
    return CsvSource(path, uploaded.file, request.separator, request.header)


def _stream_rows(
    source: CsvSource,
    roles: Roles,
    out: Path,
    content: ContentHash,
    notes: list[Note],
    on_batch: Callable[[float], None],
) -> None:
    """Write the columns that have a role to Parquet, one stretch of rows at a time."""
    named = roles.named()
    for role, column in named.items():
        source.require(column, role)
    times = TimeReader(source.name, named.get("time", ""))
    schema = pa.schema([(role, ROW_TYPES[role]) for role in ROW_TYPES if role in named])
    dictionaries = [role for role in ("user", "item", "kind") if role in named]
    with pq.ParquetWriter(out, schema, compression="zstd", use_dictionary=dictionaries) as writer:
        waiting: list[pa.Table] = []
        for first_row, batch in source.batches(list(named.values()), on_batch):
            frame = _typed(batch, named, source.name, first_row, times)
            content.add(frame)
            waiting.append(frame.to_arrow(compat_level=pl.CompatLevel.oldest()).cast(schema))
            if sum(table.num_rows for table in waiting) >= ROWS_PER_GROUP:
                writer.write_table(pa.concat_tables(waiting), row_group_size=ROWS_PER_GROUP)
                waiting = []
        if waiting:
            writer.write_table(pa.concat_tables(waiting), row_group_size=ROWS_PER_GROUP)
    unused = [column for column in source.columns if column not in named.values()]
    if unused:
        notes.append(
            Note(level="info", text=f"{source.name}: columns without a role were left out: {', '.join(unused)}")
        )
    if times.assumes_utc:
        notes.append(Note(level="info", text=f"{source.name}: {named['time']} names no time zone; UTC is assumed"))
    if not source.ends_with_newline:
        notes.append(
            Note(
                level="warning",
                text=f"{source.name} does not end with a line break; it may have been cut off",
            )
        )


def _typed(batch: pa.RecordBatch, named: dict[str, str], file: str, first_row: int, times: TimeReader) -> pl.DataFrame:
    """A batch of text as ids, kinds, times and values, in the order of ROW_TYPES."""
    columns = []
    for role in ROW_TYPES:
        if role not in named:
            continue
        cells = pl.Series(role, batch.column(named[role]))
        if role in ("user", "item"):
            cells = require_ids(cells, file, named[role], first_row)
        elif role == "time":
            cells = times.parse(cells, first_row)
        elif role == "value":
            cells = parse_numbers(cells, file, named[role], first_row)
        else:
            cells = cells.replace("", None)
        columns.append(cells.alias(role))
    return pl.DataFrame(columns)


def _table(
    context: JobContext,
    request: ImportRequest,
    uploaded: UploadedFile | None,
    role: str,
    rows: Path,
    content: ContentHash,
    notes: list[Note],
) -> pl.DataFrame | None:
    """An item or user table: the id column as text, the other columns by what their cells are."""
    if uploaded is None:
        return None
    source = _source(context, uploaded, request)
    column = request.roles.named()[role]
    source.require(column, role)
    if source.path.stat().st_size > MAX_TABLE_BYTES:
        raise DataError(f"{source.name} is larger than {MAX_TABLE_BYTES >> 30} GB, too much for a table of {role}s")
    batches = [batch for _, batch in source.batches(source.columns, lambda _: None)]
    texts = pl.DataFrame(pl.from_arrow(pa.Table.from_batches(batches)))
    ids = require_ids(texts[column], source.name, column, source.first_row)
    repeated = ids.is_duplicated()
    if repeated.any():
        again = ids.filter(repeated)[0]
        second = ids.eq(again).arg_true()[1]
        row = source.first_row + int(second)
        raise DataError(
            f"{source.name} row {row}: {role} {again!r} stands there a second time",
            where=f"{source.name} row {row}",
        )
    frame = texts.select(ids.alias("id"), *[_best_type(texts[name]) for name in texts.columns if name != column])
    content.add(frame.select(pl.all().cast(pl.String).name.prefix(f"{role} ")))
    _match(rows, role, frame["id"], source.name, notes)
    return frame


def _best_type(cells: pl.Series) -> pl.Series:
    """A column of whole numbers, numbers, flags or dates where every filled cell is one; otherwise text."""
    filled = cells.replace("", None)
    if filled.null_count() == len(filled):
        return filled
    if filled.drop_nulls().is_in(["true", "false"]).all():
        return (filled == "true").alias(cells.name)
    # a number with a leading zero is a code, not a number
    codes = filled.str.contains(r"^[+-]?0\d").any()
    for kind in () if codes else (pl.Int64, pl.Float64):
        numbers = filled.cast(kind, strict=False)
        if numbers.null_count() == filled.null_count() and not (kind == pl.Float64 and numbers.is_nan().any()):
            return numbers
    dates = filled.str.to_date("%Y-%m-%d", strict=False)
    return dates if dates.null_count() == filled.null_count() else filled


def _match(rows: Path, role: str, ids: pl.Series, file: str, notes: list[Note]) -> None:
    """Say which ids stand in one place and not in the other."""
    seen = _scan(rows).select(pl.col(role).unique()).collect(engine="streaming")[role]
    without = seen.filter(~seen.is_in(ids.implode())).sort()
    unused = ids.filter(~ids.is_in(seen.implode()))
    if len(without):
        text = f"{_count(len(without), role)} of the interactions not in {file}"
        notes.append(Note(level="warning", text=text, examples=without.head(EXAMPLES).to_list()))
    if len(unused):
        text = f"{_count(len(unused), role)} of {file} without interactions"
        notes.append(Note(level="info", text=text, examples=unused.head(EXAMPLES).to_list()))


def _count(n: int, what: str) -> str:
    return f"{n:,} {what}{'' if n == 1 else 's'}"


def _columns(frame: pl.DataFrame | None) -> list[TableColumn]:
    names = {
        pl.Int64: "whole number",
        pl.Float64: "number",
        pl.Boolean: "flag",
        pl.Date: "date",
        pl.String: "text",
    }
    if frame is None:
        return []
    return [
        TableColumn(
            name=each.name,
            type="id" if each.name == "id" else names[each.dtype.base_type()],
            missing=each.null_count(),
        )
        for each in frame.get_columns()
    ]


def _put_table(context: JobContext, frame: pl.DataFrame | None, name: str) -> Artefact | None:
    if frame is None:
        return None
    path = context.staging / f"{name}.parquet"
    frame.write_parquet(path, compression="zstd")
    return context.artefacts.put(path, "parquet")
