"""`python -m gleaner.jobs` runs a worker."""

from gleaner.jobs.worker import main

main()
