"""Checkpoints of the fits of a job, in a folder of its own: an attempt that takes a lost one up goes on from them."""

from __future__ import annotations

import hashlib
import json
import os
import time
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from gleaner import __version__
from gleaner.array_files import read_arrays, write_arrays
from gleaner.core.errors import DataError
from gleaner.core.models.base.watching import Checkpoint
from gleaner.jobs.worker.context import JobContext

EVERY_S = 2.0
"""Epochs that take less than this are not worth a file each."""
STEPS, BEST, RECORD = "steps/", "best/", "record"


@dataclass(eq=False)
class JobCheckpoints:
    """Of one fit of a job. path: its file; attempt: the attempt that writes."""

    path: Path
    attempt: int
    _saved_at: float = field(default_factory=time.monotonic, init=False)

    @classmethod
    def of(cls, context: JobContext, label: str, goal: str) -> JobCheckpoints:
        """Of the fit of this contender for this goal."""
        name = hashlib.sha256(f"{label}\n{goal}".encode()).hexdigest()[:32]
        return cls(context.settings.parts(context.claim.id) / f"fit-{name}.safetensors", context.claim.attempt)

    def load(self) -> Checkpoint | None:
        """The latest, where there is one that this version wrote."""
        if not self.path.exists():
            return None
        try:
            arrays = read_arrays(self.path)
            record = json.loads(arrays.pop(RECORD).tobytes())
        except (DataError, KeyError, ValueError):
            return None
        if record.pop("version") != __version__:
            return None
        steps, best = (
            {name.removeprefix(prefix): array.copy() for name, array in arrays.items() if name.startswith(prefix)}
            for prefix in (STEPS, BEST)
        )
        return Checkpoint(record.pop("iteration"), steps, best, record)

    def save(self, checkpoint: Checkpoint) -> None:
        """Keep one, unless the last is only a moment old. Whole or not at all: written beside, synced, renamed."""
        if time.monotonic() - self._saved_at < EVERY_S:
            return
        record = checkpoint.record | {"iteration": checkpoint.iteration, "version": __version__}
        arrays = {STEPS + name: array for name, array in checkpoint.arrays.items()}
        arrays |= {BEST + name: array for name, array in checkpoint.best.items()}
        arrays[RECORD] = np.frombuffer(json.dumps(record).encode(), np.uint8)
        self.path.parent.mkdir(exist_ok=True)
        beside = self.path.with_suffix(f".{self.attempt}")
        write_arrays(arrays, beside)
        with beside.open("rb+") as file:
            os.fsync(file.fileno())
        beside.rename(self.path)
        self._saved_at = time.monotonic()
