"""Bulk files under the artefact root, named by their SHA-256.

A file is written beside its place, synced, then renamed; the row that points at it is committed after that. So a crash
leaves at most a file nothing points at, which `sweep` removes. Files that are put and not yet referred to are pinned.
"""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import time
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import fsspec
import numpy as np
from fsspec.implementations.local import LocalFileSystem
from sqlalchemy import Connection, Engine, delete, exists, func, select, text
from sqlalchemy.dialects.postgresql import insert

from gleaner.array_files import read_arrays, write_arrays
from gleaner.core.errors import DataError
from gleaner.store.database.tables import artefacts, metadata
from gleaner.store.files.pins import Pins

ORPHAN_AGE_S = 3600.0
IS_DIGEST = re.compile(r"^[0-9a-f]{64}$")


@dataclass(frozen=True)
class Artefact:
    """A file that is in place: its SHA-256, its size and its format (parquet, safetensors)."""

    sha256: str
    bytes: int
    format: str


class ArtefactStore:
    """Files of one artefact root, opened through fsspec: a folder, or an object store by URL."""

    def __init__(self, root: str, cache: Path, pins: Pins | None = None) -> None:
        """Open a root.

        cache: folder for copies of files of a remote root.
        pins: locks that keep what is put from being removed by others; needed where several processes share the root.
        """
        self.fs, self.root = fsspec.core.url_to_fs(root)
        self.cache = cache
        self.pins = pins

    def put(self, source: Path, file_format: str) -> Artefact:
        """Take a local file in. The source is gone afterwards. Putting the same bytes twice keeps one file."""
        digest = sha256_of(source)
        artefact = Artefact(digest, source.stat().st_size, file_format)
        if self.pins is not None:
            self.pins.hold(digest)
        place = self._place(digest)
        if not self.fs.exists(place):
            self.fs.makedirs(place.rsplit("/", 1)[0], exist_ok=True)
            beside = f"{place}.{os.getpid()}.part"
            try:
                self._move_in(source, beside, place)
            except BaseException:
                # what a full disk took of it is of no use
                with suppress(OSError):
                    self.fs.rm_file(beside)
                raise
        source.unlink(missing_ok=True)
        return artefact

    def _move_in(self, source: Path, beside: str, place: str) -> None:
        if isinstance(self.fs, LocalFileSystem):
            shutil.move(source, beside)
            _sync(Path(beside))
            os.replace(beside, place)
            _sync(Path(place).parent)
        else:
            self.fs.put_file(str(source), beside)
            self.fs.mv(beside, place)

    def local_path(self, digest: str) -> Path:
        """A local path of the file, fetched first where the root is remote. Raises DataError when it is missing."""
        place = self._place(digest)
        if isinstance(self.fs, LocalFileSystem):
            path = Path(place)
        else:
            path = self.cache / digest
            if not path.exists():
                self.cache.mkdir(parents=True, exist_ok=True)
                beside = path.with_suffix(f".{os.getpid()}.part")
                self.fs.get_file(place, str(beside))
                os.replace(beside, path)
        if not path.exists():
            raise DataError(f"artefact {digest[:12]} is missing from the artefact root", where=digest)
        return path

    def put_arrays(self, arrays: dict[str, np.ndarray], staging: Path) -> Artefact:
        """Keep arrays as one safetensors file."""
        path = staging / f"arrays-{time.monotonic_ns()}.safetensors"
        write_arrays(arrays, path)
        return self.put(path, "safetensors")

    def load_arrays(self, digest: str) -> dict[str, np.ndarray]:
        """Read arrays back. Raises DataError when the bytes are not the ones that were kept."""
        path = self.local_path(digest)
        if sha256_of(path) != digest:
            raise DataError(f"artefact {digest[:12]} is damaged: its bytes do not match its hash", where=digest)
        return read_arrays(path)

    def sweep(self, engine: Engine) -> int:
        """Remove rows nothing refers to and files no row points at, both older than an hour. Return how many files."""
        with engine.begin() as connection:
            old_rows = select(artefacts.c.sha256).where(artefacts.c.created_at < text("now() - interval '1 hour'"))
            release(connection, list(connection.scalars(old_rows)))
        with engine.begin() as connection:
            recorded = set(connection.scalars(select(artefacts.c.sha256)))
        removed = 0
        for path, facts in self.fs.find(self.root, detail=True).items() if self.fs.exists(self.root) else ():
            changed = facts.get("mtime")
            name = path.rsplit("/", 1)[-1]
            if changed is None or time.time() - float(changed) <= ORPHAN_AGE_S or name in recorded:
                continue
            if IS_DIGEST.match(name):
                removed += self.remove_files([name])
            else:
                self.fs.rm_file(path)
                removed += 1
        return removed

    def remove_files(self, digests: list[str]) -> int:
        """Remove files whose rows were released and committed, but for those that are being put again. Return how many
        were removed."""
        pins = self.pins
        if pins is None:
            raise RuntimeError("files are removed through a store with pins only")
        return sum(pins.remove_unused(digest, partial(self._remove, digest)) for digest in digests)

    def _remove(self, digest: str) -> None:
        with suppress(FileNotFoundError):
            self.fs.rm_file(self._place(digest))
        (self.cache / digest).unlink(missing_ok=True)

    def _place(self, digest: str) -> str:
        return f"{self.root}/{digest[:2]}/{digest}"


def record(connection: Connection, *written: Artefact) -> None:
    """Add rows for files that are in place, and lock them until the transaction ends.

    A row that exists is locked too, so that nobody removes it before the transaction refers to it.
    """
    for artefact in sorted(written, key=lambda each: each.sha256):
        values = {"sha256": artefact.sha256, "bytes": artefact.bytes, "format": artefact.format}
        new = insert(artefacts).values(values)
        connection.execute(new.on_conflict_do_update(index_elements=["sha256"], set_={"created_at": func.now()}))


def release(connection: Connection, digests: list[str]) -> list[str]:
    """Delete the rows of files nothing refers to any more, and return which. Their files may go after the commit.

    Rows that another transaction is about to refer to are skipped.
    """
    unlocked = select(artefacts.c.sha256).where(artefacts.c.sha256.in_(digests)).order_by(artefacts.c.sha256)
    digests = list(connection.scalars(unlocked.with_for_update(skip_locked=True)))
    columns = [
        column
        for table in metadata.sorted_tables
        for column in table.columns
        if any(key.column is artefacts.c.sha256 for key in column.foreign_keys)
    ]
    unused = [~exists().where(column == artefacts.c.sha256) for column in columns]
    gone = delete(artefacts).where(artefacts.c.sha256.in_(digests), *unused).returning(artefacts.c.sha256)
    return list(connection.scalars(gone))


def sha256_of(path: Path) -> str:
    """SHA-256 of a file's bytes, in hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _sync(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
