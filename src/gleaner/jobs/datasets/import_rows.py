"""Interactions of an import: read batch by batch, typed by their roles, checked, written to Parquet."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq

from gleaner.core.data.tables.column_types import ReadColumn, guess_type, read_as
from gleaner.core.errors import DataError
from gleaner.jobs.datasets.columns import TimeReader, read_ids, read_numbers, read_texts, refusal
from gleaner.jobs.datasets.content_hash import ContentHash
from gleaner.jobs.datasets.derive import DeriveSteps
from gleaner.jobs.datasets.fingerprints import Fingerprints
from gleaner.jobs.datasets.sources.base import Batch, TableSource
from gleaner.wire.datasets import TableColumn
from gleaner.wire.imports import ColumnType, Dropped, FileReport, ImportRequest

ROWS_PER_GROUP = 1 << 17
HEAD_ROWS = 10_000
EXAMPLES = 5
EPOCH_END = datetime(1971, 1, 1, tzinfo=UTC)

ROW_TYPES: dict[str, pa.DataType] = {
    "user": pa.large_string(),
    "item": pa.large_string(),
    "kind": pa.large_string(),
    "time": pa.timestamp("us", tz="UTC"),
    "value": pa.float64(),
    "part": pa.large_string(),
}
CONTEXT_TYPES: dict[str, pa.DataType] = {
    "number": pa.float64(),
    "flag": pa.bool_(),
    "date": pa.date32(),
    "categories": pa.large_list(pa.large_string()),
}


@dataclass
class ImportTally:
    """What was counted while rows went by."""

    out_of_scale: int = 0
    clipped: int = 0
    in_future: int = 0
    at_epoch: int = 0
    zeros: int = 0
    examples: dict[str, list[str]] = field(default_factory=dict)
    notes: list[tuple[str, str]] = field(default_factory=list)

    def example(self, of: str, text: str) -> None:
        """Keep a few examples of each thing."""
        examples = self.examples.setdefault(of, [])
        if len(examples) < EXAMPLES:
            examples.append(text)

    def note(self, level: str, text: str) -> None:
        """Say something once."""
        if (level, text) not in self.notes:
            self.notes.append((level, text))


@dataclass
class RowFile:
    """One opened source of interactions with its derived columns; `part` where files were split beforehand."""

    source: TableSource
    steps: DeriveSteps
    part: str | None = None
    types: dict[str, ColumnType] = field(default_factory=dict)


class InteractionWriter:
    """Writes typed frames to one Parquet file, hashing what it writes and keeping a fingerprint of every row."""

    def __init__(self, out: Path, columns: dict[str, pa.DataType], content: ContentHash) -> None:
        self.columns = columns
        self.content = content
        self.schema = pa.schema(list(columns.items()))
        dictionaries = [name for name in ("user", "item", "kind", "part") if name in columns]
        self._writer = pq.ParquetWriter(out, self.schema, compression="zstd", use_dictionary=dictionaries)
        self._waiting: list[pa.Table] = []
        self._n_waiting = 0
        self.rows = 0
        # fingerprints wait on disk: in memory they would grow with the rows
        self._row_prints = Fingerprints(out.with_suffix(".rows"))
        self._pair_prints = Fingerprints(out.with_suffix(".pairs"))
        self._again: int | None = None

    def add(self, frame: pl.DataFrame) -> None:
        """Take the next rows; columns they lack become missing."""
        missing = [name for name in self.columns if name not in frame.columns]
        if missing:
            frame = frame.with_columns(pl.lit(None).alias(name) for name in missing)
        table = frame.select(list(self.columns)).to_arrow(compat_level=pl.CompatLevel.oldest()).cast(self.schema)
        whole = pl.DataFrame(pl.from_arrow(table))
        self.content.add(whole)
        flat = [name for name in whole.columns if name in ROW_TYPES]
        self._row_prints.add(whole.select(flat).hash_rows(seed=1).to_numpy())
        self._pair_prints.add(whole.select("user", "item").hash_rows(seed=1).to_numpy())
        self.rows += frame.height
        self._waiting.append(table)
        self._n_waiting += frame.height
        if self._n_waiting >= ROWS_PER_GROUP:
            self._flush()

    def _flush(self) -> None:
        if self._waiting:
            self._writer.write_table(pa.concat_tables(self._waiting), row_group_size=ROWS_PER_GROUP)
        self._waiting, self._n_waiting = [], 0

    def close(self) -> None:
        """Write what waits and end the file."""
        self._flush()
        self._writer.close()
        self._row_prints.close()
        self._pair_prints.close()

    def pairs_again(self) -> int:
        """Rows of a (user, item) pair that came before. After `close`."""
        if self._again is None:
            self._again, _ = self._pair_prints.repeats()
        return self._again

    def repeats(self) -> tuple[int, np.ndarray]:
        """Rows equal to an earlier one in every role, and the places of the first few. After `close`."""
        if self.pairs_again() == 0:
            return 0, np.empty(0, np.int64)
        return self._row_prints.repeats(EXAMPLES)


OUTSIDE_SCALE = "outside the declared scale"


class RowReader:
    """Reads one file of interactions into typed frames, dropping or refusing what does not fit."""

    def __init__(self, file: RowFile, request: ImportRequest, tally: ImportTally, now: datetime) -> None:
        self.file, self.request, self.tally, self.now = file, request, tally, now
        self.named = request.roles.named()
        available = [*file.source.columns, *file.steps.derived]
        for role, column in [*self.named.items(), *(("context", each) for each in request.roles.context)]:
            if column not in available:
                file.source.require(column, role)
        self.lenient = request.strictness == "lenient"
        file.source.skip_bad = self.lenient
        self.times = self._time_reader(self.named.get("time", ""))
        self.context = self._context_types()
        self.read = 0
        self.kept = 0
        self.missing: dict[str, int] = {}
        self.dropped: dict[str, Dropped] = {}

    def _time_reader(self, column: str) -> TimeReader:
        """Return the reader of the time column, as its last step declares it if there is one."""
        steps = self.file.steps
        declared = [step for step in steps.steps if step.time == column and column]
        if not declared or any(column in (step.split, step.pull, step.on) for step in steps.steps):
            return TimeReader(self.file.source.name, column)
        steps.read_elsewhere = column
        return TimeReader(self.file.source.name, column, form=declared[-1].format, zone=declared[-1].zone)

    def _context_types(self) -> dict[str, ColumnType]:
        """Types of the context columns: declared, or proposed from the first rows."""
        wanted = self.request.roles.context
        types = {name: self.file.types[name] for name in wanted if name in self.file.types}
        left = [name for name in wanted if name not in types]
        if left:
            source, steps = self.file.source, self.file.steps
            batches = source.batches(steps.needs(left), lambda _: None)
            try:
                frame = steps.apply(next(batches)).frame.head(HEAD_ROWS)
            finally:
                batches.close()  # type: ignore[attr-defined]
            for name in left:
                guess = guess_type(frame[name])
                kind = "category" if guess.kind == "text" else guess.kind
                types[name] = ColumnType(type=kind, separator=guess.separator)
        return {name: types[name] for name in wanted if types[name].type != "ignored"}

    def frames(self, on_batch: Callable[[float], None]) -> Iterator[pl.DataFrame]:
        """Typed frames in the order of the file."""
        wanted = [*self.named.values(), *self.context]
        for batch in self.file.source.batches(self.file.steps.needs(wanted), on_batch):
            self.read += batch.frame.height
            frame = self._typed(self.file.steps.apply(batch))
            self.kept += frame.height
            if frame.height:
                yield frame
        self.read += self.file.source.n_bad
        for bad in self.file.source.bad_rows:
            self._drop(bad.reason, 1, f"{self.file.source.row_word} {bad.row}: {bad.text}")
        if self.file.source.n_bad > len(self.file.source.bad_rows):
            self._drop(
                self.file.source.bad_rows[0].reason, self.file.source.n_bad - len(self.file.source.bad_rows), None
            )

    def _typed(self, batch: Batch) -> pl.DataFrame:
        columns: dict[str, pl.Series] = {}
        bad: pl.Series | None = None
        for name, column, read in self._each(batch):
            if read.wrong is not None:
                if not self.lenient:
                    raise refusal(self.file.source, batch, column, batch.frame[column], read)
                bad = self._drop_wrong(batch, column, read, bad)
            columns[name] = read.cells.alias(name)
        frame = pl.DataFrame(list(columns.values()))
        if self.file.part is not None:
            frame = frame.with_columns(part=pl.lit(self.file.part))
        if bad is not None:
            frame, batch = frame.filter(~bad), batch.keep(~bad)
        frame, batch = self._on_scale(frame, batch)
        self._count(frame, batch)
        return frame

    def _on_scale(self, frame: pl.DataFrame, batch: Batch) -> tuple[pl.DataFrame, Batch]:
        """Rows as the declared scale has them: values outside it refuse the import, are dropped or brought to its
        nearest end, as was declared."""
        if self.request.scale is None or "value" not in frame.columns:
            return frame, batch
        low, high = self.request.scale
        outside = ~frame["value"].is_between(low, high).fill_null(True)
        n = self._note_rows("scale", outside, batch, frame["value"])
        if not n:
            return frame, batch
        way = self.request.outside or ("drop" if self.lenient else "refuse")
        if way == "refuse":
            at = int(outside.arg_max() or 0)
            place = self.file.source.at(batch.row(at))
            column = self.named["value"]
            raise DataError(
                f"{place}: {column} is {frame['value'][at]:g}, outside the declared scale {low:g} to {high:g}; "
                "mend the rows, declare another scale, or say what becomes of them: --outside drop, or --outside clip",
                where=place,
            )
        if way == "clip":
            self.tally.clipped += n
            return frame.with_columns(pl.col("value").clip(low, high)), batch
        text = f"{OUTSIDE_SCALE} {low:g} to {high:g}"
        for at in outside.arg_true().head(EXAMPLES).to_list():
            self._drop(text, 0, f"{self.file.source.row_word} {batch.row(at)}: {frame['value'][at]:g}")
        self._drop(text, n, None)
        self.tally.out_of_scale += n
        return frame.filter(~outside), batch.keep(~outside)

    def _each(self, batch: Batch) -> Iterator[tuple[str, str, ReadColumn]]:
        for role, column in self.named.items():
            cells = batch.frame[column]
            if role in ("user", "item"):
                read, note = read_ids(cells)
                if note:
                    self.tally.note("info", f"{self.file.source.name}: {column}: {note}")
            elif role == "time":
                read, skipped = self.times.parse_parts(cells)
                yield role, column, skipped
            else:
                read = read_numbers(cells) if role == "value" else read_texts(cells)
            yield role, column, read
        for name, kind in self.context.items():
            read = read_as(batch.frame[name], kind.type, kind.separator)
            if read.wrong is not None and not self.lenient:
                way_out = f"{read.problem}, as the first rows are; declare its type, such as --type {name}=category"
                read = ReadColumn(read.cells, read.wrong, way_out)
            yield name, name, read

    def _drop_wrong(self, batch: Batch, column: str, read: ReadColumn, bad: pl.Series | None) -> pl.Series:
        assert read.wrong is not None
        fresh = read.wrong if bad is None else read.wrong & ~bad
        if fresh.any():
            at = int(fresh.arg_max() or 0)
            cell = batch.frame[column][at]
            short = read.problem.split(",")[0]
            self._drop(f"{column} {short}", int(fresh.sum()), f"{self.file.source.row_word} {batch.row(at)}: {cell!r}")
        return read.wrong if bad is None else read.wrong | bad

    def _drop(self, reason: str, rows: int, example: str | None) -> None:
        dropped = self.dropped.setdefault(reason, Dropped(reason=reason, rows=0))
        dropped.rows += rows
        if example and len(dropped.examples) < EXAMPLES:
            dropped.examples.append(example)

    def _count(self, frame: pl.DataFrame, batch: Batch) -> None:
        """Missing cells, and what is odd but kept."""
        for column in frame.get_columns():
            if column.name != "part" and (n := column.null_count()):
                name = self.named.get(column.name, column.name)
                self.missing[name] = self.missing.get(name, 0) + n
        if "value" in frame.columns:
            self.tally.zeros += int((frame["value"] == 0).sum())
        if "time" in frame.columns:
            self.tally.in_future += self._note_rows(
                "future", (frame["time"] > self.now).fill_null(False), batch, frame["time"]
            )
            self.tally.at_epoch += self._note_rows(
                "epoch", (frame["time"] < EPOCH_END).fill_null(False), batch, frame["time"]
            )

    def _note_rows(self, what: str, mask: pl.Series, batch: Batch, cells: pl.Series) -> int:
        n = int(mask.sum())
        if n:
            at = int(mask.arg_max() or 0)
            self.tally.example(what, f"{self.file.source.at(batch.row(at))}: {cells[at]}")
        return n

    def report(self, part: str) -> FileReport:
        """How the file was read."""
        source = self.file.source
        used = {
            *self.named.values(),
            *self.context,
            *(c for s in self.file.steps.steps for c in (s.split, s.pull, s.on, s.time)),
        }
        return FileReport(
            part=part,
            file=source.name,
            format=source.format,
            details=source.details,
            rows_read=self.read,
            rows_kept=self.kept,
            dropped=sorted(self.dropped.values(), key=lambda each: -each.rows),
            missing=self.missing,
            unused=[column for column in source.columns if column not in used],
        )


def row_columns(readers: list[RowReader], base: list[str]) -> dict[str, pa.DataType]:
    """The columns of the file to write: roles in a fixed order, then context columns by name."""
    roles = {role for reader in readers for role in reader.named} | {name for name in base if name in ROW_TYPES}
    if any(reader.file.part for reader in readers):
        roles.add("part")
    columns = {role: kind for role, kind in ROW_TYPES.items() if role in roles}
    for reader in readers:
        for name, kind in reader.context.items():
            columns[name] = CONTEXT_TYPES.get(kind.type, pa.large_string())
    return columns


def context_columns(rows: pl.LazyFrame, readers: list[RowReader], inherited: list[TableColumn]) -> list[TableColumn]:
    """The context columns of the file written, with what is missing."""
    types = {column.name: (column.type, column.separator) for column in inherited}
    types |= {name: (kind.type, kind.separator) for reader in readers for name, kind in reader.context.items()}
    if not types:
        return []
    facts = rows.select(
        *[pl.col(name).null_count().alias(f"missing {name}") for name in types],
        *[pl.col(n).drop_nulls().n_unique().alias(f"distinct {n}") for n, (k, _) in types.items() if k != "categories"],
    ).collect(engine="streaming").to_dicts()[0]  # fmt: skip
    return [
        TableColumn(
            name=name,
            type=kind,
            separator=separator,
            missing=facts[f"missing {name}"],
            distinct=facts.get(f"distinct {name}"),
        )
        for name, (kind, separator) in types.items()
    ]


def require_rows(writer: InteractionWriter, reports: list[FileReport]) -> None:
    """Raise DataError when nothing was kept."""
    if writer.rows == 0:
        reasons = "; ".join(f"{each.rows:,} {each.reason}" for report in reports for each in report.dropped)
        raise DataError(f"no row could be read: {reasons}" if reasons else "there is no row", where=reports[0].file)
