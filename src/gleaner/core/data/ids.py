"""Two-way map between opaque ids and matrix rows."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property

import numpy as np
import pyarrow as pa

MAX_ID_BYTES = 1000
"""Longest id in bytes of UTF-8: what an index of the database holds, with room for a second id."""


def id_problem(text: str) -> str | None:
    """Return what is wrong with an id, as the end of a sentence that begins with it; None where nothing is."""
    if not text:
        return "is empty"
    if "\0" in text:
        return "contains the character NUL"
    try:
        n_bytes = len(text.encode())
    except UnicodeEncodeError:
        return "contains half of a surrogate pair"
    return f"has {n_bytes:,} bytes, and an id has at most {MAX_ID_BYTES:,}" if n_bytes > MAX_ID_BYTES else None


FEW = 1000
"""Ids up to which a walk over Python's own list is quicker than Arrow's gathering."""


class IdMap:
    """Ids in row order. An id is text and stays exactly as it came: `"007"` is not `"7"`.

    Kept as one Arrow string array, so a million ids cost their text and eight bytes each; the lookup table and the
    list beside it are built on the first lookup.
    """

    def __init__(self, ids: pa.Array | Sequence[str]) -> None:
        self.ids = ids if isinstance(ids, pa.Array) else pa.array(list(ids), type=pa.large_string())
        if self.ids.type != pa.large_string():
            self.ids = self.ids.cast(pa.large_string())

    def __len__(self) -> int:
        return len(self.ids)

    def __repr__(self) -> str:
        return f"IdMap({len(self)} ids)"

    @cached_property
    def _row_of(self) -> dict[str, int]:
        return {text: row for row, text in enumerate(self._texts)}

    @cached_property
    def _texts(self) -> list[str]:
        return self.ids.to_pylist()

    def row(self, text: str) -> int | None:
        """The row of an id, or None where it is unknown."""
        return self._row_of.get(text)

    def rows(self, texts: Iterable[str]) -> np.ndarray:
        """Rows of several ids, int32 of shape (n,); -1 where unknown."""
        return np.array([self._row_of.get(text, -1) for text in texts], dtype=np.int32)

    def id(self, row: int) -> str:
        """The id at a row."""
        return self.ids[row].as_py()

    def make_ready(self) -> None:
        """Have Python's own list of the ids at hand, for many calls of `take` with few rows."""
        _ = self._texts

    def take(self, rows: np.ndarray) -> list[str]:
        """The ids at several rows, in that order."""
        if len(rows) < FEW and "_texts" in self.__dict__:
            return [self._texts[row] for row in rows.tolist()]
        return self.ids.take(pa.array(rows)).to_pylist()

    def subset(self, rows: np.ndarray) -> IdMap:
        """A new map of the given rows, in that order."""
        return IdMap(self.ids.take(pa.array(rows)))

    def to_arrays(self) -> tuple[np.ndarray, np.ndarray]:
        """UTF-8 bytes (uint8) and offsets (int64 of shape (n + 1,)), for a safetensors file."""
        encoded = [text.encode() for text in self.ids.to_pylist()]
        offsets = np.zeros(len(encoded) + 1, dtype=np.int64)
        np.cumsum([len(text) for text in encoded], out=offsets[1:])
        return np.frombuffer(b"".join(encoded), dtype=np.uint8), offsets

    @classmethod
    def from_arrays(cls, data: np.ndarray, offsets: np.ndarray) -> IdMap:
        """The map written by `to_arrays`."""
        buffers = [
            None,
            pa.py_buffer(np.ascontiguousarray(offsets)),
            pa.py_buffer(np.ascontiguousarray(data)),
        ]
        return cls(pa.Array.from_buffers(pa.large_string(), len(offsets) - 1, buffers))
