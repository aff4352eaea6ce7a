"""`python -m gleaner.jobs` runs a worker."""

import gc

# what imports leave behind lives as long as the process: looking for garbage among it takes a fifth of the start
gc.disable()

from gleaner.jobs.worker.worker import main  # noqa: E402

main()
