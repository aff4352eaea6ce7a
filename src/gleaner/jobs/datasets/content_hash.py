"""A hash of rows that depends on the rows only: not on the file's format, its writer or how it was cut in batches."""

from __future__ import annotations

import hashlib

import polars as pl


class ContentHash:
    """SHA-256 over columns, fed batch by batch."""

    def __init__(self) -> None:
        self._columns: dict[str, list[hashlib._Hash]] = {}

    def add(self, frame: pl.DataFrame) -> None:
        """Take in the next rows. Text by lengths and bytes, numbers and times by their bytes, and what is missing."""
        for series in frame.get_columns():
            sizes, data, gaps = self._columns.setdefault(series.name, [hashlib.sha256() for _ in range(3)])
            if series.null_count():
                gaps.update(series.is_null().cast(pl.UInt8).to_numpy().tobytes())
            else:
                gaps.update(bytes(len(series)))
            if series.dtype.base_type() == pl.List:
                series = series.list.join("\x1f")
            if series.dtype == pl.String:
                filled = series.fill_null("")
                sizes.update(filled.str.len_bytes().to_numpy().tobytes())
                data.update(b"".join(filled.str.join("").cast(pl.Binary).to_list()))
            else:
                data.update(series.to_physical().fill_null(0).to_numpy().tobytes())

    def hexdigest(self) -> str:
        """The hash of everything so far, in hexadecimal."""
        whole = hashlib.sha256()
        for name in sorted(self._columns):
            whole.update(name.encode() + b"\0")
            for part in self._columns[name]:
                whole.update(part.digest())
        return whole.hexdigest()
