"""The item and user tables of an import: given, taken over from the version added to, or both merged."""

from __future__ import annotations

import polars as pl

from gleaner.core.data.profile import ProfileFigures
from gleaner.core.data.tables.changed import with_cells
from gleaner.core.errors import DataError
from gleaner.jobs.datasets.derive import DeriveSteps
from gleaner.jobs.datasets.findings import match_findings
from gleaner.jobs.datasets.import_rows import HEAD_ROWS
from gleaner.jobs.datasets.import_run import ImportRun
from gleaner.jobs.datasets.import_tables import TableReader, merged
from gleaner.jobs.datasets.sources.base import TableSource
from gleaner.store.live_columns import Side
from gleaner.wire.datasets import TableColumn
from gleaner.wire.imports import ColumnType, Finding, Source


def side_table(work: ImportRun, role: str, profiled: ProfileFigures) -> tuple[pl.DataFrame | None, list[TableColumn]]:
    """The item or user table: given, taken over from the version added to, or both merged."""
    spec: Source | None = getattr(work.request, f"{role}s")
    seen = (profiled.items if role == "item" else profiled.users)["id"]
    old, old_columns = _base_table(work, role)
    if spec is None:
        frame, columns, name = old, old_columns, f"the {role} table"
    else:
        source = work.opener.open(spec, f"{role}s")
        steps = DeriveSteps(source, spec.derive, work.joined)
        column = spec.id or _id_column(source, role, work.request.roles.named()[role], seen)
        there = {*source.columns, *steps.derived} - {column}
        # what the version takes a column for holds, whatever a few new rows look like
        known = {c.name: ColumnType(type=c.type, separator=c.separator) for c in old_columns if c.name in there}
        reader = TableReader(source, steps, role, column, spec.name, known | spec.types, work.request.strictness)
        frame, columns, name = reader.read(), reader.columns, source.name
        work.files.append(reader.report(f"{role}s", frame.height))
        notes = [
            *source.notes,
            *reader.notes,
            *(("warning", f"{source.name}: {n:,} rows: {what}") for what, n in steps.unmatched.items()),
        ]
        work.findings += [Finding(code="note", level=level, text=text) for level, text in notes]
        if old is not None:
            frame = merged(old, frame)
            columns = _recounted(
                frame, [*columns, *(c for c in old_columns if c.name not in {each.name for each in columns})]
            )
    if frame is None:
        return None, []
    work.findings += match_findings(role, seen, frame["id"], name)
    work.content.add(hash_table(frame, role))
    return frame, columns


def _id_column(source: TableSource, role: str, named: str, seen: pl.Series) -> str:
    """The id column of a table that names none: called as the interactions call it, or `id`.

    Raises DataError naming the column that holds the ids of the interactions, where there is one.
    """
    for name in (named, "id"):
        if name in source.columns:
            return name
    head = source.head(HEAD_ROWS)
    known = pl.Series(seen).implode()
    shares = {name: int(head[name].cast(pl.String).is_in(known).sum()) for name in _flat(head)}
    best = max(shares, key=lambda name: shares[name], default="")
    near = f"; {best!r} holds ids of the interactions: --{role}s-id {best}" if shares.get(best) else ""
    raise DataError(
        f"{source.name}: which column is the {role}'s id? There is none called {named!r} or 'id'{near or '; '}"
        + ("" if near else f"name it with --{role}s-id (in a mapping file, `{role}s: {{id: ...}}`)")
        + f"; its columns are: {', '.join(source.columns[:30])}",
        where=f"{role}s.id",
    )


def _flat(frame: pl.DataFrame) -> list[str]:
    return [name for name, kind in frame.schema.items() if kind.base_type() not in (pl.List, pl.Struct)]


def _base_table(work: ImportRun, role: str) -> tuple[pl.DataFrame | None, list[TableColumn]]:
    if work.base is None:
        return None, []
    version, files = work.base
    digest = files.items_file if role == "item" else files.users_file
    columns = version.item_columns if role == "item" else version.user_columns
    if not digest:
        return None, []
    frame = pl.read_parquet(work.context.artefacts.local_path(digest))
    side: Side = "item" if role == "item" else "user"
    row_of = {text: row for row, text in enumerate(frame["id"].to_list())}
    cells = ((cell.row_id, cell.name, cell.value) for cell in work.taken_over.cells.get(side, []))
    frame, skipped = with_cells(frame, row_of, cells)
    if skipped:
        shown = "; ".join(map(str, skipped[:3]))
        text = f"{len(skipped):,} changed cells of the {role} table do not fit their columns and were skipped: {shown}"
        work.findings.append(Finding(code="note", level="warning", text=text))
    return frame, columns


def _recounted(frame: pl.DataFrame, columns: list[TableColumn]) -> list[TableColumn]:
    return [
        column.model_copy(
            update={
                "missing": frame[column.name].null_count(),
                "distinct": None if frame[column.name].dtype == pl.List else frame[column.name].drop_nulls().n_unique(),
            }
        )
        for column in columns
    ]


def hash_table(frame: pl.DataFrame, role: str) -> pl.DataFrame:
    """A table as the content hash takes it in: every cell as text, columns named by the role."""
    lists = [name for name, kind in frame.schema.items() if kind == pl.List]
    texts = [
        (pl.col(name).list.join("\x1f") if name in lists else pl.col(name).cast(pl.String)).alias(f"{role} {name}")
        for name in frame.columns
    ]
    return frame.select(texts)
