"""What every source gives: its columns, then batches of rows."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import polars as pl

from gleaner.core.errors import DataError

OnBatch = Callable[[float], None]
LONGEST_EXCERPT = 80


@dataclass(frozen=True, eq=False)
class Batch:
    """Some rows. `first_row` numbers the first as a person would find it; `rows` numbers each where they do not follow
    one another, as when one row of a file became several."""

    frame: pl.DataFrame
    first_row: int
    rows: pl.Series | None = None

    def row(self, at: int) -> int:
        """The number of the row at a place of this batch."""
        return self.first_row + at if self.rows is None else int(self.rows[at])

    def keep(self, mask: pl.Series) -> Batch:
        """Only the rows of a mask; each keeps its number."""
        numbers = self.rows
        if numbers is None:
            numbers = pl.int_range(self.first_row, self.first_row + self.frame.height, eager=True)
        return Batch(self.frame.filter(mask), self.first_row, numbers.filter(mask))

    def with_frame(self, frame: pl.DataFrame) -> Batch:
        """The same rows with other columns."""
        return Batch(frame, self.first_row, self.rows)


@dataclass(frozen=True)
class BadRow:
    """A row that could not be read at all, where such rows are skipped rather than refused."""

    row: int
    reason: str
    text: str


@dataclass
class TableSource(ABC):
    """One file or query. `name` is what messages call it; `format` and `details` say how it was read."""

    name: str
    columns: list[str] = field(init=False, default_factory=list)
    format: str = field(init=False, default="")
    details: dict[str, str] = field(init=False, default_factory=dict)
    notes: list[tuple[str, str]] = field(init=False, default_factory=list)
    bad_rows: list[BadRow] = field(init=False, default_factory=list)
    n_bad: int = field(init=False, default=0)
    skip_bad: bool = field(init=False, default=False)
    row_word: str = field(init=False, default="row")

    @abstractmethod
    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Batches with these columns, text or typed. `on_batch` receives the share read so far. Raises DataError."""

    def require(self, column: str, role: str) -> None:
        """Raise DataError unless the file has this column."""
        if column not in self.columns:
            near = next((name for name in self.columns if name.strip().lower() == column.strip().lower()), None)
            nearly = f"; there is {near!r}, which differs in case or blanks" if near else ""
            shown = ", ".join(self.columns[:30]) + (", ..." if len(self.columns) > 30 else "")
            raise DataError(
                f"{self.name} has no column {column!r} (given as {role}); "
                f"its columns are: {shown}{nearly}{self.hint()}",
                where=column,
            )

    def hint(self) -> str:
        """A guess at what went wrong when a column is not there."""
        return ""

    def at(self, row: int) -> str:
        """How to name one row in messages."""
        return f"{self.name} {self.row_word} {row}"

    def head(self, rows: int) -> pl.DataFrame:
        """The first rows, all columns."""
        frames: list[pl.DataFrame] = []
        for batch in self.batches(self.columns, lambda _: None):
            frames.append(batch.frame.head(rows))
            if sum(frame.height for frame in frames) >= rows:
                break
        return pl.concat(frames, how="vertical_relaxed").head(rows) if frames else pl.DataFrame()


def excerpt(text: str) -> str:
    """A text short enough for a message."""
    return text if len(text) <= LONGEST_EXCERPT else text[:LONGEST_EXCERPT] + "..."
