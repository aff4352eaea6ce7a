"""Entry of the web process."""

from __future__ import annotations

import gc
import os
import socket
import sys

import uvicorn

from gleaner import logs
from gleaner.service.app import create_app
from gleaner.service.quick_lists import QuickLists
from gleaner.settings import LISTENING, Settings

GARBAGE_AFTER = 20_000
"""Objects made and kept before Python looks for cycles among the young."""

SWITCH_S = 0.001
"""How long a thread that reads a batch of events may go on while a list waits; Python's own is five times that."""


DRAINED_S = 5
"""What is being answered when the process is told to stop has so long to end."""


def main() -> None:
    """Serve until told to stop."""
    logs.set_up()
    settings = Settings()
    app = QuickLists(create_app(settings))
    # what lives as long as the process is not looked through again and again; requests leave few cycles behind
    gc.freeze()
    gc.set_threshold(GARBAGE_AFTER)
    sys.setswitchinterval(SWITCH_S)
    config = uvicorn.Config(
        app,
        access_log=False,
        proxy_headers=False,
        host=settings.host,
        port=settings.port,
        log_config=None,
        log_level="warning",
        server_header=False,
        timeout_graceful_shutdown=DRAINED_S,
    )
    handed = os.environ.get(LISTENING)
    # one socket for all serving processes: what waits in it while one stops is taken by another, or by the next
    uvicorn.Server(config).run(sockets=None if handed is None else [socket.socket(fileno=int(handed))])


if __name__ == "__main__":
    main()
