"""`python -m gleaner.service` runs a serving process."""

import gc

# what imports leave behind lives as long as the process: looking for garbage among it takes a fifth of the start
gc.disable()

from gleaner.service.http.run import main  # noqa: E402

main()
