"""Item and user tables of an import."""

from __future__ import annotations

import polars as pl
import polars.selectors as cs

from gleaner.core.data.tables.column_types import ReadColumn, guess_type, kind_of, read_as
from gleaner.core.data.tables.name_column import STORED_AS, guess_name_column
from gleaner.core.errors import DataError
from gleaner.jobs.datasets.columns import read_ids, refusal
from gleaner.jobs.datasets.derive import DeriveSteps
from gleaner.jobs.datasets.sources.base import Batch, TableSource, excerpt
from gleaner.wire.datasets import TableColumn
from gleaner.wire.imports import ColumnType, Dropped, FileReport, Strictness

MAX_TABLE_BYTES = 2 << 30
EXAMPLES = 5
HEAD_ROWS = 2000
"""First rows in which a column of names is looked for."""


def read_whole(source: TableSource, columns: list[str]) -> Batch:
    """All rows of a table as one batch. Raises DataError when it is too large to be one."""
    batches: list[Batch] = []
    size = 0.0
    for batch in source.batches(columns, lambda _: None):
        size += batch.frame.estimated_size()
        if size > MAX_TABLE_BYTES:
            raise DataError(f"{source.name} is larger than {MAX_TABLE_BYTES >> 30} GB, too much for a table")
        batches.append(batch)
    frame = pl.concat([batch.frame for batch in batches], how="vertical_relaxed").rechunk()
    if all(batch.rows is None for batch in batches):
        return Batch(frame, batches[0].first_row)
    numbers = [
        b.rows if b.rows is not None else pl.int_range(b.first_row, b.first_row + b.frame.height, eager=True)
        for b in batches
    ]
    return Batch(frame, batches[0].first_row, pl.concat(numbers))


class TableReader:
    """Reads one item or user table into typed columns with the id called `id`."""

    def __init__(
        self,
        source: TableSource,
        steps: DeriveSteps,
        role: str,
        column: str,
        label: str | None,
        types: dict[str, ColumnType],
        strictness: Strictness,
    ) -> None:
        self.source, self.steps, self.role, self.column, self.label = source, steps, role, column, label
        self.types, self.lenient = types, strictness == "lenient"
        available = [*source.columns, *steps.derived]
        if column not in available:
            source.require(column, role)
        unknown = sorted(set(types) - set(available))
        if unknown:
            source.require(unknown[0], "a type")
        if column in types:
            raise DataError(f"{source.name}: {column!r} is the {role}'s id, and an id has no other type", where=column)
        if label is not None:
            self._require_label(label, available)
        if "id" in available and column != "id":
            raise DataError(f"{source.name}: a column beside the id {column!r} is called 'id'; rename it", where="id")
        source.skip_bad = self.lenient
        self.columns: list[TableColumn] = []
        self.notes: list[tuple[str, str]] = []
        self.dropped: list[Dropped] = []
        self.read_rows = 0

    def read(self) -> pl.DataFrame:
        """The typed table. Raises DataError on an id that is empty or comes twice (lenient: the first stays)."""
        unwanted = {name for name, declared in self.types.items() if declared.type == "ignored"}
        wanted = [name for name in self.source.columns if name not in unwanted]
        batch = self.steps.apply(read_whole(self.source, self.steps.needs(wanted)))
        self.read_rows = batch.frame.height + self.source.n_bad
        if self.source.n_bad:
            examples = [f"{self.source.row_word} {bad.row}: {bad.text}" for bad in self.source.bad_rows]
            reason = self.source.bad_rows[0].reason
            self.dropped.append(Dropped(reason=reason, rows=self.source.n_bad, examples=examples))
        batch, ids = self._ids(batch)
        self._note_label(batch)
        columns = [ids.alias("id")]
        for name in batch.frame.columns:
            if name != self.column:
                typed = self._typed(batch, name)
                if typed is not None:
                    columns.append(typed)
        frame = pl.DataFrame(columns)
        self.columns.insert(0, TableColumn(name="id", type="id", missing=0, distinct=frame.height))
        return frame

    def _require_label(self, label: str, available: list[str]) -> None:
        """Raise DataError for a column of names that is not there, is the id, or would hide another column."""
        if label not in available:
            self.source.require(label, f"the {self.role}'s name")
        if label == self.column:
            raise DataError(
                f"{self.source.name}: {label!r} is the {self.role}'s id and cannot be its name", where="name"
            )
        if label in self.types and self.types[label].type not in ("text", "category"):
            raise DataError(
                f"{self.source.name}: {label!r} holds the {self.role}'s name and is declared as "
                f"{self.types[label].type}; a name is text",
                where=label,
            )
        is_ignored = "name" in self.types and self.types["name"].type == "ignored"
        if label != "name" and "name" in available and not is_ignored:
            raise DataError(
                f"{self.source.name}: {label!r} would be stored as 'name', and there is a column 'name' already: "
                "declare that one as ignored, or leave the name out",
                where="name",
            )

    def _note_label(self, batch: Batch) -> None:
        """Say which column is stored as the name, or which could be."""
        if self.label is not None and self.label != "name":
            text = f"{self.label} holds the names of the {self.role}s and is stored as `name`"
            self.notes.append(("info", f"{self.source.name}: {text}"))
        guess = None if self.label is not None else guess_name_column(batch.frame.head(HEAD_ROWS), self.column)
        if guess is not None and guess[0] not in STORED_AS and "name" not in batch.frame.columns:
            text = f"{guess[0]} looks like the names of the {self.role}s; --{self.role}s-name {guess[0]} shows them"
            self.notes.append(("info", f"{self.source.name}: {text} in lists and searches"))

    def _ids(self, batch: Batch) -> tuple[Batch, pl.Series]:
        read, note = read_ids(batch.frame[self.column])
        if note:
            self.notes.append(("info", f"{self.source.name}: {self.column}: {note}"))
        if read.wrong is not None:
            if not self.lenient:
                raise refusal(self.source, batch, self.column, batch.frame[self.column], read)
            self.dropped.append(Dropped(reason=f"{self.column} is empty", rows=int(read.wrong.sum())))
            batch = batch.keep(~read.wrong)
            read, _ = read_ids(batch.frame[self.column])
        ids = read.cells
        repeated = ids.is_duplicated()
        if repeated.any():
            again = ids.filter(repeated)[0]
            where = self.source.at(batch.row(int(ids.eq(again).arg_true()[1])))
            if not self.lenient:
                raise DataError(f"{where}: {self.role} {again!r} stands there a second time", where=where)
            first = ids.is_first_distinct()
            examples = ids.filter(~first).head(EXAMPLES).to_list()
            self.dropped.append(Dropped(reason=f"{self.role} again", rows=int((~first).sum()), examples=examples))
            batch, ids = batch.keep(first), ids.filter(first)
        return batch, ids

    def _typed(self, batch: Batch, name: str) -> pl.Series | None:
        cells = batch.frame[name]
        column_type = self.types.get(name)
        is_declared = column_type is not None
        if column_type is None and name == self.label:
            column_type = ColumnType(type="text")
        if column_type is None:
            guess = guess_type(cells)
            column_type = ColumnType(type=guess.kind, separator=guess.separator)
        if column_type.type == "ignored":
            return None
        read = read_as(cells, column_type.type, column_type.separator)
        if read.wrong is not None:
            if is_declared and not self.lenient:
                raise refusal(self.source, batch, name, cells, read)
            self._note_wrong(batch, name, cells, read, is_declared=is_declared)
        stored = "name" if name == self.label else name
        typed = read.cells.alias(stored)
        distinct = None if typed.dtype == pl.List else typed.drop_nulls().n_unique()
        self.columns.append(
            TableColumn(
                name=stored,
                type=column_type.type,
                missing=typed.null_count(),
                distinct=distinct,
                separator=column_type.separator,
            )
        )
        return typed

    def _note_wrong(self, batch: Batch, name: str, cells: pl.Series, read: ReadColumn, *, is_declared: bool) -> None:
        """Count the cells that do not fit the type of their column, with the first as an example."""
        assert read.wrong is not None
        first = int(read.wrong.arg_max() or 0)
        example = f"{self.source.row_word} {batch.row(first)}: {excerpt(str(cells[first]))!r} {read.problem}"
        counted = f"{int(read.wrong.sum()):,} of {len(cells):,} cells of {name} are read as missing"
        text = f"{self.source.name}: {counted}, such as {example}"
        way_out = f"; to keep them, declare {name} as text or category"
        if is_declared:
            way_out = f"; without the strictness lenient this refuses the import, because {name} is declared"
        self.notes.append(("warning", text + way_out))

    def report(self, part: str, kept: int) -> FileReport:
        """How the file was read."""
        return FileReport(
            part=part,
            file=self.source.name,
            format=self.source.format,
            details=self.source.details,
            rows_read=self.read_rows,
            rows_kept=kept,
            dropped=self.dropped,
            missing={column.name: column.missing for column in self.columns if column.missing},
            unused=[name for name, declared in self.types.items() if declared.type == "ignored"],
        )


def _in_one_zone(table: pl.DataFrame) -> pl.DataFrame:
    """Times that name their zone as those of UTC, as which times without one are read."""
    return table.with_columns(cs.datetime(time_zone="*").dt.convert_time_zone("UTC").dt.replace_time_zone(None))


def merged(old: pl.DataFrame, new: pl.DataFrame) -> pl.DataFrame:
    """Rows of both; where both have an id, the new row stands. Raises DataError when a column changed its type."""
    for name in set(old.columns) & set(new.columns):
        before, now = kind_of(old.schema[name]), kind_of(new.schema[name])
        if before != now:
            raise DataError(
                f"column {name!r} holds {now} here, and {before} in the version these rows are added to; "
                "declare its type",
                where=name,
            )
    old, new = _in_one_zone(old), _in_one_zone(new)
    stay = old.filter(~pl.col("id").is_in(new["id"].implode()))
    return pl.concat([stay, new], how="diagonal_relaxed")
