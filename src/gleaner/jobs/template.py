"""What every job's process starts as: all job code imported, and bound to the worker's life. Imported by the process
that jobs are forked from, and by nothing else."""

from __future__ import annotations

import gc
import importlib

from gleaner.jobs.child import KINDS
from gleaner.jobs.parent import die_with_parent

die_with_parent()
for name in KINDS.values():
    importlib.import_module(f"gleaner.jobs.{name}")
# what is imported lives as long as the process: looking through it for garbage would copy its pages into every job
gc.freeze()
