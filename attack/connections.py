"""Headers without end, requests that never end, and callers that do not read: whoever else asks is answered meanwhile."""

from __future__ import annotations

import contextlib
import itertools
import socket
import threading
import time
from collections.abc import Callable, Iterator

import httpx

from attack.outcome import Outcome
from attack.target import Target, resident_mb

SLOWEST_S = 1.0
"""Of a list of somebody else, while connections are misused: on two busy cores, and a hundred times what one takes."""

GROWTH_MB = 150.0
"""Memory that misused connections may take together."""

HALF_SENT = 2_000
LIST = "/v1/shelves/for-growers/recommendations?user=g-0417&n=10"


class Bystander:
    """Somebody who asks for lists all the while, from another address of this machine."""

    def __init__(self, target: Target, outcome: Outcome) -> None:
        self.target, self.outcome = target, outcome
        self.slowest = 0.0
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._ask, daemon=True)

    def __enter__(self) -> Bystander:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._ending.set()
        self._thread.join()
        if self.slowest > SLOWEST_S:
            self.outcome.report_progress("slow", f"a list took {self.slowest:.2f} s while connections were misused")

    def _ask(self) -> None:
        transport = httpx.HTTPTransport(local_address="127.0.0.2")
        with httpx.Client(base_url=self.target.url, timeout=60, transport=transport) as http:
            while not self._ending.wait(0.01):
                begun = time.perf_counter()
                try:
                    answer = http.get(LIST, headers=self.target.headers("serve"))
                except httpx.HTTPError as error:
                    self.outcome.report_progress("bystander", f"a bystander: {type(error).__name__}: {error}")
                    continue
                self.slowest = max(self.slowest, time.perf_counter() - begun)
                if answer.status_code != 200:
                    self.outcome.report_progress("bystander", f"a bystander: {answer.status_code} {answer.text[:200]}")


def endless_header() -> Iterator[bytes]:
    """One header that grows."""
    yield b"GET /healthz HTTP/1.1\r\nHost: 127.0.0.1\r\nX: "
    yield from itertools.repeat(b"a" * 65_536, 2_000)


def many_headers() -> Iterator[bytes]:
    """Headers one after the other."""
    yield b"GET /healthz HTTP/1.1\r\nHost: 127.0.0.1\r\n"
    yield from (b"X%d: a\r\n" % number * 100 for number in range(20_000))


def endless_path() -> Iterator[bytes]:
    """A path that grows."""
    yield b"GET /"
    yield from itertools.repeat(b"a" * 65_536, 2_000)


def endless_trailers() -> Iterator[bytes]:
    """A body that ended, and trailers after it."""
    yield b"POST /v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n2\r\n{}\r\n0\r\n"
    yield from (b"T%d: a\r\n" % number * 100 for number in range(20_000))


def endless_extension() -> Iterator[bytes]:
    """The length of a chunk, and what may follow it."""
    yield b"POST /v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n2;"
    yield from itertools.repeat(b"a" * 65_536, 2_000)


def large_sign_in() -> Iterator[bytes]:
    """A body to sign in with, of many fields, from somebody without a key."""
    yield b"POST /v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 4000000\r\n\r\n{"
    yield from (b'"a%07d":1,' % number * 50 for number in range(6_000))


def unknown_caller() -> Iterator[bytes]:
    """A body for a call that needs a key, from somebody without one."""
    yield b"POST /v1/shelves HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 4000000\r\n\r\n{"
    yield from (b'"a%07d":1,' % number * 50 for number in range(6_000))


FLOODS: tuple[Callable[[], Iterator[bytes]], ...] = (
    endless_header, many_headers, endless_path, endless_trailers, endless_extension, large_sign_in, unknown_caller,
)  # fmt: skip


def attack(target: Target, seconds: float, seed: int) -> Outcome:
    """Misuse connections for so long, in every way at least once."""
    outcome, end = Outcome("headers and slow clients"), time.monotonic() + seconds
    pid = target.processes()["web service"]
    before = resident_mb(pid)
    with Bystander(target, outcome) as bystander:
        held = _half_sent(target)
        highest = resident_mb(pid)
        while True:
            for flood in FLOODS:
                _send(target, flood, outcome)
                highest = max(highest, resident_mb(pid))
            if time.monotonic() > end:
                break
        _require_closed(held, outcome)
    if highest - before > GROWTH_MB:
        outcome.report_progress("memory", f"misused connections took {highest - before:,.0f} MB")
    outcome.notes.append(
        f"{len(held):,} half-sent requests; slowest list beside them {bystander.slowest * 1000:,.0f} ms; "
        f"{highest - before:+,.0f} MB"
    )
    return outcome


def _half_sent(target: Target) -> list[socket.socket]:
    """Connections of one address that stay half sent, as many as it gets."""
    held = []
    for number in range(HALF_SENT):
        try:
            connection = socket.create_connection(("127.0.0.1", target.port), timeout=5)
            connection.sendall(b"GET /healthz HTTP/1.1\r\nX: " if number % 2 else b"")
        except OSError:
            break
        held.append(connection)
    return held


def _send(target: Target, flood: Callable[[], Iterator[bytes]], outcome: Outcome) -> None:
    """Send until the other side has had enough."""
    sent = 0
    address = (f"127.0.0.{3 + FLOODS.index(flood)}", 0)
    with socket.create_connection(("127.0.0.1", target.port), timeout=20, source_address=address) as connection:
        try:
            for piece in flood():
                connection.sendall(piece)
                sent += len(piece)
        except OSError:
            outcome.count(refused=True)
            return
        with contextlib.suppress(OSError):
            if connection.recv(12)[9:12] in (b"431", b"413", b"401", b"400"):
                outcome.count(refused=True)
                return
    outcome.report_progress(flood.__name__, f"{flood.__name__}: {sent:,} bytes were taken")


def _require_closed(held: list[socket.socket], outcome: Outcome) -> None:
    """Every half-sent request is answered and closed, or was refused at once."""
    for connection in held:
        connection.settimeout(20)
        try:
            while connection.recv(4096):
                pass
            outcome.count(refused=True)
        except TimeoutError:
            outcome.report_progress("half sent", "a half-sent request is open after 20 s")
        except OSError:
            outcome.count(refused=True)
        finally:
            connection.close()
