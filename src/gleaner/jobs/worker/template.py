"""What every job's process starts as: all job code imported, and bound to the worker's life. Imported by the process
that jobs are forked from, and by nothing else."""

from __future__ import annotations

import gc
import importlib

# nothing that imports leave behind is garbage, and looking for it takes a fifth of the start
gc.disable()

import numpy as np  # noqa: E402

from gleaner.core.kernels import ordering  # noqa: E402
from gleaner.core.models.base.registry import FAMILIES  # noqa: E402
from gleaner.jobs.worker.child import KINDS  # noqa: E402
from gleaner.jobs.worker.parent import die_with_parent  # noqa: E402

die_with_parent()
for name in KINDS.values():
    importlib.import_module(f"gleaner.jobs.{name}")
# a family is imported when it is first asked for: here, once for all jobs
families = list(FAMILIES.values())
# one kernel on one row: the compiler's own start takes longer than loading what it compiled before
ordering.bucket(np.zeros(1, np.uint32), np.array([0, 1]), np.zeros(1, np.int32), np.zeros(1, np.int32))
# what is imported lives as long as the process: looking through it for garbage would copy its pages into every job
gc.freeze()
gc.enable()
