"""Parts of an export on disk: an attempt that takes a lost one up goes on after the last part that is whole."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pyarrow.ipc

from gleaner.jobs.exports.rows import Content
from gleaner.jobs.worker.context import JobContext

WORKED_OUT = 0.8
"""Share of the progress bar until every part is there."""


def work_out(context: JobContext, content: Content) -> list[Path]:
    """Every part as an Arrow file, those made by an earlier attempt as they are. Raises CancelledError."""
    folder = context.settings.parts(context.claim.id)
    folder.mkdir(exist_ok=True)
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
