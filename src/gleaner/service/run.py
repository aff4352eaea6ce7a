"""Entry of the web process."""

from __future__ import annotations

import gc
import logging
import sys

import uvicorn

from gleaner.service.app import create_app
from gleaner.service.quick_lists import QuickLists
from gleaner.settings import Settings

GARBAGE_AFTER = 20_000
"""Objects made and kept before Python looks for cycles among the young."""

SWITCH_S = 0.001
"""How long a thread that reads a batch of events may go on while a list waits; Python's own is five times that."""


def main() -> None:
    """Serve until told to stop."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    logging.getLogger("procrastinate").setLevel(logging.WARNING)
    settings = Settings()
    app = QuickLists(create_app(settings))
    # what lives as long as the process is not looked through again and again; requests leave few cycles behind
    gc.freeze()
    gc.set_threshold(GARBAGE_AFTER)
    sys.setswitchinterval(SWITCH_S)
    uvicorn.run(
        app,
        access_log=False,
        proxy_headers=False,
        host=settings.host,
        port=settings.port,
        log_level="warning",
        server_header=False,
        timeout_graceful_shutdown=5,
    )


if __name__ == "__main__":
    main()
