"""Byte streams of files that may be compressed, counted and bounded on the way."""

from __future__ import annotations

import gzip
import zlib
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

import pyarrow as pa

from gleaner.core.errors import DataError

GZIP, ZSTD = b"\x1f\x8b", b"\x28\xb5\x2f\xfd"
BOMB_RATIO = 400
BOMB_FROM = 256 << 20
"""A file that unpacks to more than this, and to more than BOMB_RATIO times its size, is taken for a bomb: text
interactions shrink five- to thirtyfold."""

STAND_IN = b"\x1f"
"""The unit separator takes the place of a separator of several characters: the CSV reader knows only single ones."""


def compression_of(path: Path) -> str | None:
    """gzip or zstd by the first bytes of the file, whatever it is called."""
    with path.open("rb") as file:
        start = file.read(4)
    return "gzip" if start.startswith(GZIP) else "zstd" if start.startswith(ZSTD) else None


@dataclass
class TextStream:
    """A readable binary stream over a file. Tells the share read, whether it ended, quotes seen and its last byte."""

    path: Path
    name: str
    separator: str = ","
    quotes: int = field(init=False, default=0)
    last: bytes = field(init=False, default=b"")
    ended: bool = field(init=False, default=False)
    closed: bool = field(init=False, default=False)

    def __post_init__(self) -> None:
        self.size = self.path.stat().st_size
        self.compression = compression_of(self.path)
        self._raw = self.path.open("rb")
        self._file: IO[bytes] | Any = self._raw
        if self.compression == "gzip":
            self._file = gzip.GzipFile(fileobj=self._raw)
        elif self.compression == "zstd":
            self._file = pa.CompressedInputStream(pa.PythonFile(self._raw), "zstd")
        self._unpacked = 0
        self._long = self.separator.encode() if len(self.separator) > 1 else b""
        self._rest = b""

    @property
    def done(self) -> float:
        """Share of the file read so far."""
        return 1.0 if self.ended else min(1.0, self._raw.tell() / max(1, self.size))

    def read(self, size: int = -1) -> bytes:
        """Some bytes, empty only at the end. Raises DataError on a damaged, cut-off or bomb-like file."""
        while True:
            chunk = self._next(size)
            data = self._translated(chunk)
            if data or not chunk:
                self.quotes += data.count(b'"')
                self.last = data[-1:] or self.last
                self.ended = self.ended or not chunk
                return data

    def _next(self, size: int) -> bytes:
        try:
            chunk = bytes(self._file.read(size))
        except (EOFError, gzip.BadGzipFile, zlib.error, OSError, pa.ArrowInvalid) as error:
            how = "was cut off" if isinstance(error, EOFError) or "truncated" in str(error).lower() else "is damaged"
            raise DataError(
                f"{self.name} cannot be unpacked: the {self.compression} data {how}", where=self.name
            ) from error
        if self.compression:
            self._unpacked += len(chunk)
            if self._unpacked > BOMB_FROM and self._unpacked > BOMB_RATIO * self.size:
                raise DataError(
                    f"{self.name} unpacks to more than {BOMB_RATIO} times its size, which no table does; unpack it and "
                    "look at it before you import it",
                    where=self.name,
                )
        return chunk

    def _translated(self, chunk: bytes) -> bytes:
        """With a separator of several characters: each becomes one stand-in, also where it lies across two chunks."""
        if not self._long:
            return chunk
        if STAND_IN in chunk:
            raise DataError(
                f"{self.name} holds the control character 0x1f; give it a separator of one character", where=self.name
            )
        data, self._rest = self._rest + chunk, b""
        whole = data.replace(self._long, STAND_IN)
        if chunk:
            for length in range(len(self._long) - 1, 0, -1):
                if whole.endswith(self._long[:length]):
                    self._rest, whole = whole[-length:], whole[:-length]
                    break
        return whole

    def readable(self) -> bool:
        """It can be read."""
        return True

    def writable(self) -> bool:
        """It cannot be written."""
        return False

    def seekable(self) -> bool:
        """It cannot be sought."""
        return False

    def close(self) -> None:
        """Close the file below."""
        self.closed = True
        self._file.close()
        self._raw.close()


def head_lines(path: Path, name: str, size: int = 1 << 16, most: int = 30) -> list[str]:
    """The first whole lines of a text file, unpacked."""
    stream = TextStream(path, name)
    try:
        data = stream.read(size)
    finally:
        stream.close()
    text = data.decode("utf-8-sig", errors="replace")
    lines = text.splitlines()
    if len(data) >= size and len(lines) > 1:
        lines.pop()
    return [line for line in lines if line.strip()][:most]
