"""A server that is told to stop answers what had reached it, over connections of every state."""

from __future__ import annotations

import asyncio
import socket
import threading
from collections.abc import Iterator
from contextlib import closing

import pytest
import uvicorn

from gleaner.service.http.draining import DrainingProtocol, DrainingServer
from stack import wait_for

REQUEST = b"GET /list HTTP/1.1\r\nHost: here\r\n\r\n"


class Running:
    """A server in a thread whose answers can be held back."""

    def __init__(self) -> None:
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.address = self.socket.getsockname()
        self.waiting = False
        config = uvicorn.Config(self._answer, http=DrainingProtocol, interface="asgi3", lifespan="off", log_config=None)
        self.server = DrainingServer(config)
        self.thread = threading.Thread(target=self.server.run, args=([self.socket],))
        self.thread.start()

    async def _answer(self, _scope: object, _receive: object, send) -> None:
        while self.waiting:
            await asyncio.sleep(0.001)
        headers = [(b"content-length", b"4")]
        await send({"type": "http.response.start", "status": 200, "headers": headers})
        await send({"type": "http.response.body", "body": b"list"})

    def connected(self) -> socket.socket:
        """A connection that the server has taken."""
        before = len(self.server.server_state.connections)
        connection = socket.create_connection(self.address, timeout=10)
        wait_for(lambda: len(self.server.server_state.connections) > before)
        return connection

    def stop(self) -> None:
        """Tell it to stop, and wait until it takes no more connections."""
        self.server.should_exit = True
        wait_for(lambda: self.server.server_state.stopping)


@pytest.fixture
def running() -> Iterator[Running]:
    """One that answers."""
    server = Running()
    try:
        yield server
    finally:
        server.waiting = False
        server.server.should_exit = True
        server.thread.join()


def answer(connection: socket.socket) -> bytes:
    """All that comes until the other side closes."""
    parts = []
    while part := connection.recv(4096):
        parts.append(part)
    return b"".join(parts)


def test_a_call_over_a_connection_that_has_carried_none_is_answered(running):
    with closing(running.connected()) as fresh:
        running.stop()
        fresh.sendall(REQUEST)
        response = answer(fresh)
    assert response.startswith(b"HTTP/1.1 200 OK")
    assert b"connection: close" in response
    assert response.endswith(b"list")


def test_a_call_over_a_kept_connection_is_answered(running):
    with closing(running.connected()) as kept:
        kept.sendall(REQUEST)
        with kept.makefile("rb") as reading:
            headers = list(iter(reading.readline, b"\r\n"))
            assert reading.read(4) == b"list"
        assert b"connection: close\r\n" not in headers
        running.stop()
        kept.sendall(REQUEST)
        response = answer(kept)
    assert b"connection: close" in response
    assert response.endswith(b"list")


def test_what_is_being_answered_is_answered_to_its_end(running):
    running.waiting = True
    with closing(running.connected()) as waiting:
        waiting.sendall(REQUEST)
        wait_for(lambda: running.server.server_state.tasks)
        running.stop()
        running.waiting = False
        response = answer(waiting)
    assert b"connection: close" in response
    assert response.endswith(b"list")


def test_connections_that_stay_silent_do_not_keep_it(running):
    with closing(running.connected()) as silent:
        running.stop()
        running.thread.join(10)
        assert not running.thread.is_alive()
        assert answer(silent) == b""


def test_none_is_taken_any_more(running):
    running.stop()
    running.thread.join(10)
    with pytest.raises(ConnectionRefusedError):
        socket.create_connection(running.address, timeout=10)
