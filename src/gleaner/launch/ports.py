"""Free ports of this machine, for servers that may have to start again on the same one."""

from __future__ import annotations

import random
import socket
from pathlib import Path

LOWEST = 10_240
RANGE_FILE = Path("/proc/sys/net/ipv4/ip_local_port_range")
TRIES = 200


def free_port() -> int:
    """Return a port on 127.0.0.1 that nobody listens on.

    It lies below the range from which the kernel gives ports to outgoing connections: a server that ends and starts
    again would else find, once in a while, that such a connection has taken its port. Where every port below that range
    is taken, it is one of the range.
    """
    for _ in range(TRIES):
        port = random.randrange(LOWEST, _first_of_outgoing())  # noqa: S311  (no secret)
        if _is_free(port):
            return port
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _first_of_outgoing() -> int:
    try:
        return max(LOWEST + 1, int(RANGE_FILE.read_text().split()[0]))
    except (OSError, ValueError, IndexError):
        return 32_768


def _is_free(port: int) -> bool:
    with socket.socket() as probe:
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True
