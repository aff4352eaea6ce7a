"""Derived columns by declared steps: split, pull, join, time."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from gleaner.core.data.tables.column_types import pattern_groups
from gleaner.core.errors import DataError, near
from gleaner.jobs.datasets.columns import TimeReader
from gleaner.jobs.datasets.sources.base import Batch, TableSource
from gleaner.wire.imports import Derive


@dataclass
class DeriveSteps:
    """The steps of one source, with what they need and what they met."""

    source: TableSource
    steps: list[Derive]
    tables: dict[str, pl.DataFrame]
    skips_wrong_times: bool = False
    """Whether a cell that is no time becomes missing; else it raises DataError."""
    read_elsewhere: str | None = None
    """A column of times that the caller reads, so that its wrong cells are counted as bad rows."""
    unmatched: dict[str, int] = field(init=False, default_factory=dict)
    _times: dict[str, TimeReader] = field(init=False, default_factory=dict)
    derived: list[str] = field(init=False, default_factory=list)

    def __post_init__(self) -> None:
        known = list(self.source.columns)
        for place, step in enumerate(self.steps):
            column = step.split or step.pull or step.time or step.on
            assert column is not None
            if column not in known:
                raise DataError(
                    f"{self.source.name}: derive step {place + 1} needs column {column!r}{near(column, known)}",
                    where=f"derive.{place}",
                )
            new = self._makes(step, place)
            clash = sorted(set(new) & set(known)) if step.time is None else []
            if clash:
                raise DataError(
                    f"{self.source.name}: derive step {place + 1} makes column {clash[0]!r}, which is there already",
                    where=f"derive.{place}",
                )
            known += [name for name in new if name not in known]
        self.derived = known[len(self.source.columns) :]

    def _makes(self, step: Derive, place: int) -> list[str]:
        if step.join is not None:
            if step.join not in self.tables:
                raise DataError(f"derive step {place + 1} joins table {step.join!r}, which the import does not name",
                                where=f"derive.{place}.join")  # fmt: skip
            table, key = self.tables[step.join], step.key or step.on or ""
            for name in (key, *step.take):
                if name not in table.columns:
                    raise DataError(
                        f"table {step.join!r} has no column {name!r}{near(name, table.columns)}",
                        where=f"derive.{place}",
                    )
            return list(step.take) or [name for name in table.columns if name != key]
        if step.pull is not None:
            assert step.pattern is not None
            try:
                groups = pattern_groups(step.pattern)
            except ValueError as error:
                raise DataError(str(error), where=f"derive.{place}.pattern") from error
            if groups != len(step.into):
                raise DataError(
                    f"the pattern {step.pattern!r} has {groups} groups, and `into` names {len(step.into)} columns",
                    where=f"derive.{place}.into",
                )
        return [step.time] if step.time else list(step.into)

    def needs(self, wanted: list[str]) -> list[str]:
        """The columns to read from the file so that the wanted ones, derived or not, can be had."""
        first = [
            c for step in self.steps if (c := step.split or step.pull or step.time or step.on) in self.source.columns
        ]
        return list(dict.fromkeys([name for name in wanted if name in self.source.columns] + [c for c in first if c]))

    def apply(self, batch: Batch) -> Batch:
        """The batch with the derived columns."""
        for place, step in enumerate(self.steps):
            batch = self._apply(batch, step, place)
        return batch

    def _apply(self, batch: Batch, step: Derive, place: int) -> Batch:
        frame = batch.frame
        if step.split is not None:
            assert step.by is not None
            cut = pl.col(step.split).cast(pl.String).str.splitn(step.by, len(step.into)).struct
            parts = [cut.field(f"field_{at}").str.strip_chars().alias(name) for at, name in enumerate(step.into)]
            return batch.with_frame(frame.with_columns(parts))
        if step.pull is not None:
            assert step.pattern is not None
            text = pl.col(step.pull).cast(pl.String)
            parts = [text.str.extract(step.pattern, at).alias(name) for at, name in enumerate(step.into, 1)]
            pulled = frame.with_columns(parts)
            self._count(f"{step.pull} without a match of {step.pattern}", int(pulled[step.into[0]].null_count()))
            return batch.with_frame(pulled)
        if step.join is not None:
            return batch.with_frame(self._joined(frame, step))
        assert step.time is not None
        if step.time == self.read_elsewhere:
            return batch
        reader = self._times.setdefault(
            f"{place}", TimeReader(self.source.name, step.time, form=step.format, zone=step.zone)
        )
        read = reader.parse(frame[step.time])
        if read.wrong is not None and not self.skips_wrong_times:
            raise reader.refusal(self.source, batch, read)
        return batch.with_frame(frame.with_columns(read.cells.alias(step.time)))

    def _joined(self, frame: pl.DataFrame, step: Derive) -> pl.DataFrame:
        table, on = self.tables[step.join or ""], step.on or ""
        key = step.key or on
        take = list(step.take) or [name for name in table.columns if name != key]
        right = table.select(pl.col(key).cast(pl.String).alias("\0key"), *take, pl.lit(True).alias("\0there"))
        joined = frame.with_columns(pl.col(on).cast(pl.String).alias("\0key")).join(
            right, on="\0key", how="left", maintain_order="left"
        )
        self._count(f"{on} not in table {step.join}", int(joined["\0there"].null_count()))
        return joined.drop("\0key", "\0there")

    def _count(self, what: str, n: int) -> None:
        if n:
            self.unmatched[what] = self.unmatched.get(what, 0) + n
