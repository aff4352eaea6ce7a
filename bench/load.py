"""Requests over kept connections: as many as go, or so many a second. The client costs little beside a server."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable
from itertools import count

import numpy as np


class Connection:
    """One HTTP/1.1 connection that is kept."""

    def __init__(self, port: int) -> None:
        self._socket = socket.create_connection(("127.0.0.1", port), timeout=30)
        self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def get(self, path: str) -> bytes:
        """The body. Raises RuntimeError for anything but 200."""
        self._socket.sendall(f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n".encode())
        return self._answer(path)

    def post(self, path: str, body: bytes) -> bytes:
        """The same for a body of JSON."""
        head = f"POST {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\n"
        self._socket.sendall(f"{head}Content-Length: {len(body)}\r\n\r\n".encode() + body)
        return self._answer(path)

    def _answer(self, path: str) -> bytes:
        content = b""
        while b"\r\n\r\n" not in content:
            content += self._more()
        head, _, body = content.partition(b"\r\n\r\n")
        if not head.startswith(b"HTTP/1.1 200"):
            raise RuntimeError(f"{path}: {head.splitlines()[0]!r} {body!r}")
        length = next(int(line[15:]) for line in head.lower().splitlines() if line.startswith(b"content-length:"))
        while len(body) < length:
            body += self._more()
        return body

    def _more(self) -> bytes:
        part = self._socket.recv(65536)
        if not part:
            raise RuntimeError("the server closed the connection")
        return part

    def close(self) -> None:
        """Hang up."""
        self._socket.close()


def saturate(port: int, paths: list[str], connections: int, seconds: float) -> float:
    """Answers a second while every connection asks again as soon as it is answered."""
    end = time.perf_counter() + seconds
    done = [0] * connections

    def ask(own: int) -> None:
        line = Connection(port)
        at = own * 7919
        while time.perf_counter() < end:
            line.get(paths[at % len(paths)])
            at += 1
            done[own] += 1
        line.close()

    begun = time.perf_counter()
    _together(ask, connections)
    return sum(done) / (time.perf_counter() - begun)


def paced(port: int, paths: list[str], connections: int, rate: float, seconds: float) -> np.ndarray:
    """Seconds from when each request was due to its answer, `rate` requests a second falling due by chance.

    Waiting for a free connection counts: a slow answer delays those behind it, as it does for callers.
    """
    random = np.random.default_rng(5)
    due = np.cumsum(random.exponential(1 / rate, int(rate * seconds)))
    took = np.full(len(due), np.nan)
    turn, begun = count(), time.perf_counter() + 0.1

    def ask(own: int) -> None:
        line = Connection(port)
        while (at := next(turn)) < len(due):
            time.sleep(max(0.0, begun + due[at] - time.perf_counter()))
            line.get(paths[at % len(paths)])
            took[at] = time.perf_counter() - begun - due[at]
        line.close()

    _together(ask, connections)
    return took


def _together(work: Callable[[int], None], n: int) -> None:
    """Run work(0) to work(n - 1), a thread each; raise what one of them raised."""
    wrong: list[BaseException] = []

    def run(own: int) -> None:
        try:
            work(own)
        except BaseException as error:
            wrong.append(error)

    threads = [threading.Thread(target=run, args=(own,)) for own in range(n)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    if wrong:
        raise wrong[0]
