"""One sheet of an XLSX workbook, streamed."""

from __future__ import annotations

import io
import re
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time
from pathlib import Path
from typing import Any

import polars as pl

from gleaner.core.errors import DataError, near
from gleaner.jobs.datasets.sources.base import Batch, OnBatch, TableSource

ROWS = 5000
MAX_UNPACKED = 1 << 30
MAX_SHARED = 256 << 20
"""Of the texts that cells share, which are held in memory whole."""

MAX_RATIO = 100
BOMB_FROM = 64 << 20
MAX_MERGES_SHOWN = 3


DAMAGED = (zipfile.BadZipFile, zlib.error, KeyError, EOFError, NotImplementedError, RuntimeError, OSError)
"""What unpacking a part of a damaged archive raises."""


@dataclass
class SheetSource(TableSource):
    """One sheet; its first filled row is the header unless there is none. Rows are numbered as the sheet numbers them.

    Cells keep what they show: whole numbers as whole numbers, dates as ISO text. A formula gives its last computed
    value. Merged cells are refused: they hold one value for several rows, which no table can say.
    """

    path: Path
    sheet: str | None = None
    header: bool = True

    def __post_init__(self) -> None:
        self.format = "xlsx"
        self._require_sane()
        book = self._book(values=True)
        try:
            names = book.sheetnames
            if not names:
                raise DataError(f"{self.name} is a workbook without a sheet, or is damaged", where=self.name)
            if self.sheet is None and len(names) > 1:
                raise DataError(f"{self.name} has {len(names)} sheets; say which: {', '.join(names)}", where="sheet")
            if self.sheet is not None and self.sheet not in names:
                raise DataError(f"{self.name} has no sheet {self.sheet!r}{near(self.sheet, names)}", where=self.sheet)
            self.sheet = self.sheet or names[0]
            self.details = {"sheet": self.sheet, "header": "yes" if self.header else "no"}
            self._require_unmerged(book[self.sheet])
            self._read_header(book[self.sheet])
        finally:
            book.close()

    def _require_sane(self) -> None:
        if self.path.stat().st_size == 0:
            raise DataError(f"{self.name} is empty", where=self.name)
        try:
            with zipfile.ZipFile(self.path) as archive:
                sizes = {info.filename: info.file_size for info in archive.infolist()}
        except zipfile.BadZipFile as error:
            raise DataError(f"{self.name} is no XLSX workbook, or is damaged", where=self.name) from error
        packed, unpacked = self.path.stat().st_size, sum(sizes.values())
        shared = max((size for name, size in sizes.items() if name.lower().endswith("sharedstrings.xml")), default=0)
        if shared > MAX_SHARED or unpacked > MAX_UNPACKED or (unpacked > BOMB_FROM and unpacked > MAX_RATIO * packed):
            raise DataError(
                f"{self.name} ({packed:,} bytes) unpacks to {unpacked:,} bytes, more than a workbook plausibly does; "
                "export the sheet as CSV",
                where=self.name,
            )

    def _book(self, *, values: bool) -> Any:
        import openpyxl  # takes a moment, and few imports need it

        try:
            # from memory: the reader goes by a path's suffix, which an upload has none of
            return openpyxl.load_workbook(io.BytesIO(self.path.read_bytes()), read_only=True, data_only=values)
        except Exception as error:  # the reader raises whatever a damaged part makes it stumble over
            raise DataError(f"{self.name} is no XLSX workbook, or is damaged: {error}", where=self.name) from error

    def _require_unmerged(self, sheet: Any) -> None:
        """Look for merged cells in the sheet's own XML: the streaming reader does not report them."""
        try:
            merged = list(dict.fromkeys(self._merged_cells(sheet._worksheet_path.lstrip("/"))))
        except DAMAGED as error:
            raise DataError(f"{self.name} is no XLSX workbook, or is damaged: {error}", where=self.name) from error
        if merged:
            some = ", ".join(ref.decode() for ref in merged[:MAX_MERGES_SHOWN])
            more = f" and {len(merged) - MAX_MERGES_SHOWN} more" if len(merged) > MAX_MERGES_SHOWN else ""
            raise DataError(
                f"{self.name}, sheet {self.sheet!r}: cells {some}{more} are merged, so it is unclear which row their "
                "value belongs to; unmerge them and fill every row",
                where=f"{self.name} {merged[0].decode()}",
            )

    def _merged_cells(self, part_name: str) -> list[bytes]:
        """Return the ranges that a sheet's XML says are merged. Raise one of DAMAGED where it cannot be unpacked."""
        merged: list[bytes] = []
        with zipfile.ZipFile(self.path) as archive, archive.open(part_name) as part:
            tail = b""
            while chunk := part.read(1 << 20):
                merged += re.findall(rb'<mergeCell\s+ref="([A-Z0-9:]+)"', tail + chunk)
                tail = chunk[-64:]
        return merged

    def _rows(self, sheet: Any, **options: Any) -> Iterator[Any]:
        """Yield the rows of a sheet. They are unpacked as they are asked for, and may prove damaged at any of them."""
        rows, number = sheet.iter_rows(**options), options.get("min_row", 1)
        while True:
            try:
                row = next(rows)
            except StopIteration:
                return
            except MemoryError:
                raise
            except Exception as error:  # the reader raises whatever a damaged part makes it stumble over
                where = f"sheet {self.sheet!r}, row {number} or after it"
                raise DataError(f"{self.name} is damaged, {where}: {error}", where=self.name) from error
            yield row
            number += 1

    def _read_header(self, sheet: Any) -> None:
        for number, row in enumerate(self._rows(sheet, values_only=True), 1):
            if all(cell is None for cell in row):
                continue
            if not self.header:
                self.columns, self._first = [f"f{at}" for at in range(len(row))], number
                return
            filled = len(row)
            while filled and row[filled - 1] is None:
                filled -= 1
            names = ["" if cell is None else _text(cell) or "" for cell in row[:filled]]
            if "" in names:
                letter = _letter(names.index(""))
                raise DataError(
                    f"{self.name}, sheet {self.sheet!r}: cell {letter}{number} of the header is empty",
                    where=f"{self.name} {letter}{number}",
                )
            repeated = sorted({each for each in names if names.count(each) > 1})
            if repeated:
                raise DataError(f"{self.name}: the header names column {repeated[0]!r} twice", where=repeated[0])
            self.columns, self._first = names, number + 1
            return
        raise DataError(f"{self.name}, sheet {self.sheet!r} is empty", where=self.name)

    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Yield batches of text."""
        values, formulas = self._book(values=True), self._book(values=False)
        try:
            yield from self._read(values[self.sheet], formulas[self.sheet], columns, on_batch)
        finally:
            values.close()
            formulas.close()

    def _read(self, values: Any, formulas: Any, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        places = [self.columns.index(column) for column in columns]
        cells: list[list[str | None]] = [[] for _ in columns]
        numbers: list[int] = []
        computed, seen = 0, False
        total = max(1, values.max_row or 1)
        first = self._first
        pairs = zip(self._rows(values, min_row=first), self._rows(formulas, min_row=first), strict=False)
        for number, (row, written) in enumerate(pairs, self._first):
            if all(cell.value is None for cell in written):
                continue
            for at, place in enumerate(places):
                cell = row[place].value if place < len(row) else None
                is_formula = place < len(written) and written[place].data_type == "f"
                computed += is_formula
                if is_formula and cell is None:
                    where = f"{_letter(place)}{number}"
                    raise DataError(
                        f"{self.name}, sheet {self.sheet!r}: cell {where} holds the formula {written[place].value} and "
                        "no computed value; open and save the workbook where it was made, or export it as CSV",
                        where=f"{self.name} {where}",
                    )
                if isinstance(cell, str) and cell.startswith("#") and row[place].data_type == "e":
                    where = f"{_letter(place)}{number}"
                    raise DataError(
                        f"{self.name}, sheet {self.sheet!r}: cell {where} holds the error {cell}",
                        where=f"{self.name} {where}",
                    )
                cells[at].append(_text(cell))
            numbers.append(number)
            seen = True
            if len(numbers) >= ROWS:
                yield _batch(columns, cells, numbers)
                cells, numbers = [[] for _ in columns], []
                on_batch(min(1.0, number / total))
        if numbers:
            yield _batch(columns, cells, numbers)
        if computed:
            text = f"{self.name}: {computed:,} cells hold formulas; their last computed values were taken"
            self.notes.append(("info", text))
        if not seen:
            raise DataError(f"{self.name}, sheet {self.sheet!r} has a header but no rows", where=self.name)


def _batch(columns: list[str], cells: list[list[str | None]], numbers: list[int]) -> Batch:
    frame = pl.DataFrame([pl.Series(name, each, dtype=pl.String) for name, each in zip(columns, cells, strict=True)])
    return Batch(frame, numbers[0], pl.Series(numbers, dtype=pl.Int64))


def _letter(place: int) -> str:
    name = ""
    place += 1
    while place:
        place, rest = divmod(place - 1, 26)
        name = chr(65 + rest) + name
    return name


def _text(cell: Any) -> str | None:
    if cell is None or isinstance(cell, str):
        return cell
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, float) and cell.is_integer() and abs(cell) < 2**53:
        return str(int(cell))
    if isinstance(cell, datetime):
        midnight = cell.time() == time(0)
        return cell.date().isoformat() if midnight else cell.isoformat(sep=" ", timespec="seconds")
    if isinstance(cell, (date, time)):
        return cell.isoformat()
    return str(cell)
