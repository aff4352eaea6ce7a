"""Parts of an export on disk: an attempt that takes a lost one up goes on after the last part that is whole."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pyarrow.ipc

from gleaner.jobs.exports.rows import Content
from gleaner.jobs.worker.context import JobContext

IDS = "ids.sha256"
"""Name of the file that says which ids the parts number."""

WORKED_OUT = 0.8
"""Share of the progress bar until every part is there."""


def work_out(context: JobContext, content: Content) -> list[Path]:
    """Return every part as an Arrow file. Parts of an earlier attempt are used if they number the same ids.

    Raises CancelledError.
    """
    folder = context.settings.parts(context.claim.id)
    _clear_unless_same(folder, content)
    paths = [folder / f"{number:06}.arrow" for number in range(content.n_parts)]
    finished = sum(path.exists() for path in paths)
    if finished:
        context.log(f"{finished:,} of {len(paths):,} parts are here from the attempt before")
    for number, path in enumerate(paths):
        if not path.exists():
            done = 0.05 + (WORKED_OUT - 0.05) * number / len(paths)
            context.require_going(done, f"part {number + 1:,} of {len(paths):,}")
            _keep(content.part(number), path, context.claim.attempt)
    return paths


def _clear_unless_same(folder: Path, content: Content) -> None:
    """Delete the parts of an attempt that saw other ids: an event may have come since, or a user was forgotten."""
    digest = hashlib.sha256()
    for name, ids in sorted(content.ids.items()):
        digest.update(name.encode())
        for text in ids.ids.to_pylist():
            digest.update(len(text.encode()).to_bytes(4, "big") + text.encode())
    marker = folder / IDS
    if marker.exists() and marker.read_text() == digest.hexdigest():
        return
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    marker.write_text(digest.hexdigest())


def _keep(part: pa.Table, path: Path, attempt: int) -> None:
    """Whole or not at all: written beside its place, synced, renamed."""
    beside = path.with_suffix(f".{attempt}")
    with beside.open("wb") as file:
        with pa.ipc.new_file(file, part.schema) as writer:
            writer.write_table(part)
        file.flush()
        os.fsync(file.fileno())
    beside.rename(path)


def read_parts(context: JobContext, paths: list[Path], to: float, doing: str) -> Iterator[pa.Table]:
    """One after the other. to: where the progress bar then stands. Raises CancelledError."""
    for number, path in enumerate(paths):
        context.require_going(WORKED_OUT + (to - WORKED_OUT) * number / len(paths), doing)
        with pa.memory_map(str(path)) as file:
            yield pa.ipc.open_file(file).read_all()
