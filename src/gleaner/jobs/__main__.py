"""`python -m gleaner.jobs` runs a worker."""

from gleaner.jobs.worker.worker import main

main()
