"""What every job's process starts as: all job code imported. Imported by what jobs are forked from, and by nothing
else."""

from __future__ import annotations

import importlib

import numpy as np

from gleaner.core.kernels import ordering
from gleaner.core.models.base.registry import FAMILIES
from gleaner.jobs.worker.child import KINDS

for name in KINDS.values():
    importlib.import_module(f"gleaner.jobs.{name}")
# a family is imported when it is first asked for: here, once for all jobs
families = list(FAMILIES.values())
# one kernel on one row: the compiler's own start takes longer than loading what it compiled before
ordering.bucket(np.zeros(1, np.uint32), np.array([0, 1]), np.zeros(1, np.int32), np.zeros(1, np.int32))
