"""Tables that are not one row per interaction: lists within a row, and users down by items across."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import polars as pl

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.base import Batch, OnBatch, TableSource

WIDE_ITEM, WIDE_VALUE = "item", "value"


@dataclass
class LongSource(TableSource):
    """Another source with its lists made rows: a user with a list of items becomes one row for each."""

    inner: TableSource

    def __post_init__(self) -> None:
        self.columns, self.format, self.details = self.inner.columns, self.inner.format, self.inner.details
        self.row_word, self.notes = self.inner.row_word, self.inner.notes

    def hint(self) -> str:
        """The inner source's."""
        return self.inner.hint()

    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Yield batches without lists. Lists of one row must be of one length: they are taken side by side."""
        self.inner.skip_bad = self.skip_bad
        for batch in self.inner.batches(columns, on_batch):
            yield _unlisted(self, batch)
        self.bad_rows, self.n_bad = self.inner.bad_rows, self.inner.n_bad


def _unlisted(source: TableSource, batch: Batch) -> Batch:
    frame = batch.frame
    structs = [
        name for name, kind in frame.schema.items() if kind == pl.List(pl.Struct) or kind.base_type() == pl.Struct
    ]
    if structs:
        raise DataError(
            f"{source.name}: column {structs[0]!r} holds records; write them as columns of their own", where=structs[0]
        )
    lists = [name for name, kind in frame.schema.items() if kind.base_type() in (pl.List, pl.Array)]
    if not lists:
        return batch
    frame = frame.with_columns(pl.col(name).cast(pl.List(frame.schema[name].inner)) for name in lists)  # type: ignore[attr-defined]
    lengths = frame.select(pl.col(name).list.len() for name in lists)
    for other in lists[1:]:
        unequal = lengths[lists[0]].eq_missing(lengths[other])
        if not unequal.all():
            row = batch.row(int((~unequal).arg_max() or 0))
            raise DataError(
                f"{source.at(row)}: {lists[0]!r} and {other!r} hold lists of different lengths, so their entries do "
                "not belong together",
                where=source.at(row),
            )
    numbers = batch.rows
    if numbers is None:
        numbers = pl.int_range(batch.first_row, batch.first_row + frame.height, eager=True)
    filled = (lengths[lists[0]] > 0).fill_null(False)
    empty = frame.height - int(filled.sum())
    if empty:
        note = f"{source.name}: some rows hold an empty list and gave no interaction"
        if ("info", note) not in source.notes:
            source.notes.append(("info", note))
    exploded = frame.with_columns(numbers.alias("\0row")).filter(filled).explode(lists)
    return Batch(exploded.drop("\0row"), batch.first_row, exploded["\0row"])


@dataclass
class WideSource(TableSource):
    """A wide table: one row per user, one column per item. Gives `item` and `value`; an empty cell gives no row."""

    inner: TableSource
    user: str
    items: list[str] | None = None

    def __post_init__(self) -> None:
        self.inner.require(self.user, "user")
        self.format, self.row_word = self.inner.format, self.inner.row_word
        self.details = self.inner.details | {"shape": "wide: users down, items across"}
        self.notes = self.inner.notes
        across = self.items or [name for name in self.inner.columns if name != self.user]
        for name in across:
            self.inner.require(name, "an item column")
        if not across:
            raise DataError(f"{self.name} has no item columns beside {self.user!r}", where=self.name)
        self.across = across
        self.columns = [self.user, WIDE_ITEM, WIDE_VALUE]

    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Yield long batches, in the order of rows, then of columns."""
        self.inner.skip_bad = self.skip_bad
        for batch in self.inner.batches([self.user, *self.across], on_batch):
            numbers = batch.rows
            if numbers is None:
                numbers = pl.int_range(batch.first_row, batch.first_row + batch.frame.height, eager=True)
            long = (
                batch.frame.with_columns(pl.all().cast(pl.String), numbers.alias("\0row"))
                .unpivot(on=self.across, index=[self.user, "\0row"], variable_name=WIDE_ITEM, value_name=WIDE_VALUE)
                .filter(pl.col(WIDE_VALUE).str.strip_chars().str.len_bytes() > 0)
                .sort("\0row", maintain_order=True)
            )
            if long.height:
                yield Batch(long.select(columns), batch.first_row, long["\0row"])
        self.bad_rows, self.n_bad = self.inner.bad_rows, self.inner.n_bad
