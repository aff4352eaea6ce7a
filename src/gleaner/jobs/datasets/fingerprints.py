"""Which rows were there before, by a fingerprint of each on disk: memory stays bounded for any number of rows."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np

AT_ONCE = 1 << 20


class Fingerprints:
    """A file of 64-bit hashes, one a row, written as rows go by and counted after `close`.

    at_once: hashes held in memory at a time when repeats are counted.
    """

    def __init__(self, path: Path, at_once: int = AT_ONCE) -> None:
        self.path, self.at_once = path, at_once
        self.rows = 0
        self._file = path.open("wb")

    def add(self, hashes: np.ndarray) -> None:
        """The next rows' hashes, unsigned 64-bit (n,)."""
        hashes.astype(np.uint64, copy=False).tofile(self._file)
        self.rows += len(hashes)

    def close(self) -> None:
        """No row comes after this."""
        self._file.close()

    def repeats(self, examples: int = 0) -> tuple[int, np.ndarray]:
        """How many rows equal an earlier one; and the places of the first rows, at most twice `examples`, that have
        the smallest `examples` of the hashes that come more than once."""
        n_shares = -(-self.rows // self.at_once)
        again, seen_twice = 0, np.empty(0, np.uint64)
        for share in range(n_shares):
            hashes = np.concatenate([each[_share_of(each, n_shares) == share] for each in self._chunks()])
            hashes.sort()
            same = hashes[1:] == hashes[:-1]
            again += int(same.sum())
            if len(seen_twice) < examples and same.any():
                seen_twice = np.concatenate([seen_twice, np.unique(hashes[1:][same])])[:examples]
        return again, self._places(seen_twice, 2 * examples)

    def _places(self, wanted: np.ndarray, most: int) -> np.ndarray:
        places: list[int] = []
        for at, chunk in enumerate(self._chunks()):
            if len(places) >= most or not len(wanted):
                break
            places.extend(at * self.at_once + np.flatnonzero(np.isin(chunk, wanted)))
        return np.array(places[:most], np.int64)

    def _chunks(self) -> Iterator[np.ndarray]:
        with self.path.open("rb") as file:
            while len(chunk := np.fromfile(file, np.uint64, self.at_once)):
                yield chunk


def _share_of(hashes: np.ndarray, n_shares: int) -> np.ndarray:
    """Which share (0 to n_shares - 1) a hash falls in: equal hashes in the same, and the shares about equally full."""
    return ((hashes >> np.uint64(32)) * np.uint64(n_shares)) >> np.uint64(32)
