"""Entry of the web process."""

from __future__ import annotations

import gc
import logging
import os
import socket
import sys
import threading

import uvicorn
from sqlalchemy.exc import OperationalError

from gleaner import logs
from gleaner.service.http.app import create_app
from gleaner.service.http.callers import is_trusted
from gleaner.service.http.connections import ConnectionLimits, raise_file_limit
from gleaner.service.http.draining import DrainingProtocol, DrainingServer
from gleaner.service.http.state import Service
from gleaner.service.shelves.quick_lists import QuickLists
from gleaner.settings import Settings

log = logging.getLogger("gleaner.service")

GARBAGE_AFTER = 20_000
"""Objects made and kept before Python looks for cycles among the young."""

SWITCH_S = 0.001
"""How long a thread that reads a batch of events may go on while a list waits; Python's own is five times that."""


WARM_S = 20.0
"""Shelves have so long to be loaded before calls are taken; the rest are loaded while others are served."""

DRAINED_S = 5
"""What is being answered when the process is told to stop has so long to end."""


def main(listening: int | None = None) -> None:
    """Serve until told to stop. listening: the descriptor of a socket that all serving processes take calls from."""
    logs.set_up()
    os.umask(0o077)
    settings = Settings()
    raise_file_limit()
    app = QuickLists(create_app(settings))
    # the socket is not listened to yet, or others take what comes to it; who stops the process now loses nothing
    warming = threading.Thread(target=_warm, args=(app.service,), name="warming", daemon=True)
    warming.start()
    warming.join(WARM_S)
    # what lives as long as the process is not looked through again and again; requests leave few cycles behind
    gc.freeze()
    gc.set_threshold(GARBAGE_AFTER)
    gc.enable()
    sys.setswitchinterval(SWITCH_S)
    config = uvicorn.Config(
        app,
        http=DrainingProtocol,
        access_log=False,
        proxy_headers=False,
        host=settings.host,
        port=settings.port,
        log_config=None,
        log_level="warning",
        server_header=False,
        timeout_graceful_shutdown=DRAINED_S,
    )
    # one socket for all serving processes: what waits in it while one stops is taken by another, or by the next
    limits = ConnectionLimits(settings.connections_per_address, lambda address: is_trusted(address, settings))
    DrainingServer(config, limits).run(sockets=None if listening is None else [socket.socket(fileno=listening)])


def _warm(service: Service) -> None:
    try:
        # first, so that whoever is forgotten meanwhile is seen to be
        service.forgotten_users.look()
        service.shelves.refresh_all()
    except OperationalError as error:
        log.warning("no shelf could be loaded yet: %s", error.orig)
