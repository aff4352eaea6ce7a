"""Ports that servers can start again on."""

from __future__ import annotations

import socket
from pathlib import Path

from gleaner.launch import ports


def test_a_port_is_free_and_never_given_to_an_outgoing_connection():
    first = int(Path("/proc/sys/net/ipv4/ip_local_port_range").read_text().split()[0])
    for _ in range(50):
        port = ports.free_port()
        assert 10_240 <= port < first
        with socket.socket() as server:
            server.bind(("127.0.0.1", port))


def test_ports_that_are_taken_are_passed_over(monkeypatch, tmp_path):
    narrow = tmp_path / "range"
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        port = taken.getsockname()[1]
        # the only port below this range is taken
        narrow.write_text(f"{port + 1} 60999\n")
        monkeypatch.setattr(ports, "RANGE_FILE", narrow)
        monkeypatch.setattr(ports, "LOWEST", port)
        found = ports.free_port()
    assert found != port
    with socket.socket() as server:
        server.bind(("127.0.0.1", found))
